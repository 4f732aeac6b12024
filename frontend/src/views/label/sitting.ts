/** What stays from picture to picture while somebody labels: the class, the order, the last sizes. */
import { ref } from "vue";
import type { LocationQuery } from "vue-router";

import { api, take } from "@/api/client";
import { useProject } from "@/state/project";
import type { Version } from "@/views/label/history";

/** A pass through all pictures for one class: the rest is dimmed and out of reach. */
export const pass = ref(false);

const lastSizes = new Map<number, { width: number; height: number }>();
let pending: { pictureId: number; version: Version } | null = null;

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

  /** The pictures that next and previous walk along: those of the grid that this one was opened from. */
  async function loadIds(query: LocationQuery): Promise<void> {
    const { from: _from, ...wanted } = query;
    const found = await take(
      api.GET("/api/v1/projects/{project_id}/picture-ids", {
        params: { path: { project_id: store.id }, query: wanted as Record<string, never> },
      }),
    );
    ids.value = found.ids;
  }

  async function nextUnlabelled(pictureId: number): Promise<number | undefined> {
    const query = { state: "unlabelled" as const };
    const open = await take(
      api.GET("/api/v1/projects/{project_id}/picture-ids", { params: { path: { project_id: store.id }, query } }),
    );
    return open.ids.find((each) => each > pictureId) ?? open.ids.find((each) => each !== pictureId);
  }

  /** Labels that another picture is to have once it is opened: undo across pictures. */
  function setPending(pictureId: number, version: Version): void {
    pending = { pictureId, version };
  }

  function takePending(pictureId: number): Version | null {
    const found = pending?.pictureId === pictureId ? pending.version : null;
    pending = null;
    return found;
  }

  return { activeClass, ids, lastSizes, chooseFirstClass, chooseClass, loadIds, nextUnlabelled, setPending, takePending };
}
