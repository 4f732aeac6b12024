/** Undo and redo of a picture's boxes, kept for the whole sitting. */
import { ref } from "vue";

import type { Corners } from "@/stage/geometry";

export interface DrawnBox {
  class_id: number;
  corners: Corners;
  crowd: boolean;
  attributes: Record<string, unknown>;
}

interface Story {
  past: string[];
  future: string[];
}

const stories = new Map<number, Story>();
const MOST_STEPS = 500;

/** The history of one picture; it is still there when the picture is opened again. */
export function useHistory(pictureId: number) {
  let story = stories.get(pictureId);
  if (!story) stories.set(pictureId, (story = { past: [], future: [] }));
  const steps = story;
  const canUndo = ref(steps.past.length > 0);
  const canRedo = ref(steps.future.length > 0);

  function note(): void {
    canUndo.value = steps.past.length > 0;
    canRedo.value = steps.future.length > 0;
  }

  /** Remember how the boxes were before a change. */
  function remember(before: readonly DrawnBox[]): void {
    steps.past.push(JSON.stringify(before));
    if (steps.past.length > MOST_STEPS) steps.past.shift();
    steps.future.length = 0;
    note();
  }

  function step(from: string[], to: string[], now: readonly DrawnBox[]): DrawnBox[] | null {
    const found = from.pop();
    if (found === undefined) return null;
    to.push(JSON.stringify(now));
    note();
    return JSON.parse(found) as DrawnBox[];
  }

  return {
    canUndo,
    canRedo,
    remember,
    undo: (now: readonly DrawnBox[]) => step(steps.past, steps.future, now),
    redo: (now: readonly DrawnBox[]) => step(steps.future, steps.past, now),
    forget: () => {
      steps.past.length = steps.future.length = 0;
      note();
    },
  };
}
