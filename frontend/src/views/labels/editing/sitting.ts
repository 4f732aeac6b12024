/** What stays from picture to picture while somebody labels: the class, the order, the last sizes. */
import { ref } from "vue";
import type { LocationQuery } from "vue-router";

import { api, type DrawnBox, take } from "@/api/client";
import { useProject } from "@/state/project";
import type { Turn } from "@/views/labels/editing/history";

/** A pass through all pictures for one class: the rest is dimmed and out of reach. */
export const pass = ref(false);

const lastSizes = new Map<number, { width: number; height: number }>();
/** What next and previous walk along, and which question it answers. */
let walk: { key: string; ids: number[] } = { key: "", ids: [] };
const seen = new Map<number, DrawnBox[]>();
const MOST_SEEN = 20;

/** The next picture that is opened begins a new sitting. */
export function endSitting(): void {
  walk = { key: "", ids: [] };
  seen.clear();
}
let pending: Turn | null = null;

export function useSitting() {
  const store = useProject();
  const activeClass = ref<number | null>(null);
  const ids = ref<number[]>([]);

  function chooseFirstClass(): void {
    const known = Number(sessionStorage.getItem("avocet.class"));
    activeClass.value = store.classes.some((each) => each.id === known) ? known : (store.classes[0]?.id ?? null);
  }

  function chooseClass(classId: number): void {
    activeClass.value = classId;
    sessionStorage.setItem("avocet.class", String(classId));
  }

  /**
   * The pictures that next and previous walk along: those of the grid that this one was opened from.
   *
   * They stay for the sitting, so that a picture does not slip away for being labelled, and so that going on asks
   * for nothing but the next picture.
   */
  async function loadIds(query: LocationQuery, pictureId: number): Promise<void> {
    const { from: _from, ...wanted } = query;
    const key = `${store.id} ${JSON.stringify(wanted)}`;
    if (walk.key !== key || !walk.ids.includes(pictureId)) {
      const found = await take(
        api.GET("/api/v1/projects/{project_id}/picture-ids", {
          params: { path: { project_id: store.id }, query: wanted as Record<string, never> },
        }),
      );
      walk = { key, ids: found.ids };
    }
    ids.value = walk.ids;
  }

  /** The boxes of a picture as they were last seen in this sitting, or as the server has them. */
  async function boxesOf(pictureId: number): Promise<DrawnBox[]> {
    const known = seen.get(pictureId);
    if (known) return known;
    const detail = await take(
      api.GET("/api/v1/pictures/{picture_id}", { params: { path: { picture_id: pictureId } } }),
    );
    return detail.labels.boxes;
  }

  /** Remember a picture's boxes for those who go on from it. */
  function remember(pictureId: number, boxes: DrawnBox[]): void {
    seen.delete(pictureId);
    seen.set(pictureId, boxes);
    if (seen.size > MOST_SEEN) seen.delete(seen.keys().next().value!);
  }

  /** The next picture that is not labelled, among those that the grid's filter leaves. */
  async function nextUnlabelled(pictureId: number, filter: LocationQuery): Promise<number | undefined> {
    const { from: _from, ...wanted } = filter;
    const first = async (after: number) => {
      const query = {
        ...(wanted as Record<string, never>),
        state: "unlabelled" as const,
        after,
        limit: 2,
        counted: false,
      };
      const params = { path: { project_id: store.id }, query };
      const found = await take(api.GET("/api/v1/projects/{project_id}/pictures", { params }));
      return found.pictures.find((each) => each.id !== pictureId)?.id;
    };
    return (await first(pictureId)) ?? (await first(0));
  }

  /** Labels that another picture is to have once it is opened: undo across pictures. */
  function setPending(turn: Turn): void {
    pending = turn;
  }

  function takePending(pictureId: number): Turn | null {
    const found = pending?.pictureId === pictureId ? pending : null;
    pending = null;
    return found;
  }

  return {
    activeClass,
    ids,
    lastSizes,
    chooseFirstClass,
    chooseClass,
    loadIds,
    boxesOf,
    remember,
    nextUnlabelled,
    setPending,
    takePending,
  };
}
