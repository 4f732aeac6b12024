/** Undo and redo of the whole sitting, across pictures. */
import { computed, ref } from "vue";

import type { DrawnBox, Labels } from "@/api/client";

export interface Version {
  boxes: DrawnBox[];
  state: Labels["state"];
}

/** A step back, or forward again. */
export interface Turn {
  pictureId: number;
  version: Version;
  expected: Version;
}

interface Step {
  pictureId: number;
  before: string;
  after: string;
}

function turn(pictureId: number, version: string, expected: string): Turn {
  return { pictureId, version: JSON.parse(version) as Version, expected: JSON.parse(expected) as Version };
}

const MOST_STEPS = 2000;

const past = ref<Step[]>([]);
const future = ref<Step[]>([]);
let project = 0;

/** The sitting's history; another project begins a new one. */
export function useHistory(projectId: number) {
  if (project !== projectId) {
    project = projectId;
    past.value = [];
    future.value = [];
  }
  const canUndo = computed(() => past.value.length > 0);
  const canRedo = computed(() => future.value.length > 0);

  /** Remember a change of one picture. */
  function remember(pictureId: number, before: Version, after: Version): void {
    past.value.push({ pictureId, before: JSON.stringify(before), after: JSON.stringify(after) });
    if (past.value.length > MOST_STEPS) past.value.shift();
    future.value = [];
  }

  /** What undo would do next: on which picture, what it would look like, and what it has to look like now. */
  function nextUndo(): Turn | null {
    const step = past.value.at(-1);
    return step ? turn(step.pictureId, step.before, step.after) : null;
  }

  function nextRedo(): Turn | null {
    const step = future.value.at(-1);
    return step ? turn(step.pictureId, step.after, step.before) : null;
  }

  /** Tell that the next undo, or redo, was done. */
  function undone(): void {
    const step = past.value.pop();
    if (step) future.value.push(step);
  }

  function redone(): void {
    const step = future.value.pop();
    if (step) past.value.push(step);
  }

  return { canUndo, canRedo, remember, nextUndo, nextRedo, undone, redone };
}
