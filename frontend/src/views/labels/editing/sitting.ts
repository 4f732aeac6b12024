/** What stays from picture to picture while somebody labels: the class, the last sizes, what was seen. */
import { ref } from "vue";

import { api, type DrawnBox, take } from "@/api/client";
import { classWasUsed } from "@/state/classesUsed";
import { useProject } from "@/state/project";
import type { Turn } from "@/views/labels/editing/history";
import { forgetTyped } from "@/views/labels/editing/typedAhead";
import { endWalk } from "@/views/labels/editing/walk";

/** A pass through all pictures for one class: the rest is dimmed and out of reach. */
export const pass = ref(false);

const lastSizes = new Map<number, { width: number; height: number }>();
const seen = new Map<number, DrawnBox[]>();
const MOST_SEEN = 20;

/** The next picture that is opened begins a new sitting. */
export function endSitting(): void {
  endWalk();
  forgetTyped();
  seen.clear();
}
let pending: Turn | null = null;

export function useSitting() {
  const store = useProject();
  const activeClass = ref<number | null>(null);

  function chooseFirstClass(): void {
    const known = Number(sessionStorage.getItem("avocet.class"));
    activeClass.value = store.classes.some((each) => each.id === known) ? known : (store.classes[0]?.id ?? null);
  }

  function chooseClass(classId: number): void {
    activeClass.value = classId;
    sessionStorage.setItem("avocet.class", String(classId));
    classWasUsed(store.id, classId);
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
    lastSizes,
    chooseFirstClass,
    chooseClass,
    boxesOf,
    remember,
    setPending,
    takePending,
  };
}
