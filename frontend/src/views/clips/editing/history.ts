/** Undo and redo of the whole sitting on a clip: what each change did to which objects. */
import { computed, shallowRef } from "vue";

import type { Track } from "@/views/clips/editing/trajectory";

/** An object before and after a change; null where it was not there. */
export type Step = { number: number; before: Track | null; after: Track | null }[];

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

  /**
   * An object that was drawn here got another number: its steps go with it, back to the one in which it was drawn.
   * Earlier steps of that number are of another object.
   */
  function renumber(from: number, to: number): void {
    const rename = (steps: readonly Step[]): Step[] => {
      let begun = false;
      const renamed = [...steps].reverse().map((step) =>
        step.map((part) => {
          if (begun || part.number !== from) return part;
          begun = part.before === null;
          const named = (track: Track | null): Track | null => track && { ...track, number: to };
          return { number: to, before: named(part.before), after: named(part.after) };
        }),
      );
      return renamed.reverse();
    };
    past.value = rename(past.value);
    future.value = rename([...future.value].reverse()).reverse();
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
