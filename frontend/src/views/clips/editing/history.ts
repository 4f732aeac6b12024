/** Undo and redo of the whole sitting on a clip: what each change did to which objects. */
import { computed, shallowRef } from "vue";

import type { Track } from "@/views/clips/editing/trajectory";
import { areTwo } from "@/views/clips/editing/uid";

/** An object before and after a change; null where it was not there. */
export type Step = { number: number; before: Track | null; after: Track | null }[];

/** The same change of the object under another number. */
export function numbered({ before, after }: Step[number], number: number): Step[number] {
  const named = (track: Track | null): Track | null => track && { ...track, number };
  return { number, before: named(before), after: named(after) };
}

const MOST_STEPS = 2000;

const past = shallowRef<Step[]>([]);
const future = shallowRef<Step[]>([]);
let clip = 0;

/** The sitting's history; another clip begins a new one. */
export function useTrackHistory(clipId: number) {
  if (clip !== clipId) {
    clip = clipId;
    past.value = [];
    future.value = [];
  }

  function remember(step: Step): void {
    past.value = [...past.value, step].slice(-MOST_STEPS);
    future.value = [];
  }

  /** The step to undo, as one to be made. */
  function back(): Step | null {
    const step = past.value.at(-1);
    if (!step) return null;
    past.value = past.value.slice(0, -1);
    future.value = [...future.value, step];
    return step.map(({ number, before, after }) => ({ number, before: after, after: before }));
  }

  function forth(): Step | null {
    const step = future.value.at(-1);
    if (!step) return null;
    future.value = future.value.slice(0, -1);
    past.value = [...past.value, step];
    return step;
  }

  /** An object got another number: its steps go with it. Other steps of its former number are of other objects. */
  function renumber(object: Track, to: number): void {
    const rename = (steps: readonly Step[]): Step[] =>
      steps.map((step) =>
        step.map((part) =>
          part.number === object.number && !areTwo(part.before ?? part.after, object) ? numbered(part, to) : part,
        ),
      );
    past.value = rename(past.value);
    future.value = rename(future.value);
  }

  return {
    remember,
    renumber,
    back,
    forth,
    canUndo: computed(() => past.value.length > 0),
    canRedo: computed(() => future.value.length > 0),
  };
}
