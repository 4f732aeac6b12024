/** Random numbers that are the same in every run, for checks against slow, obviously right versions. */
import type { Corners } from "@/stage/geometry";

export function randomFrom(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return state / 2 ** 32;
  };
}

/** A box with whole corners in a picture of 100 × 80 pixels. */
export function randomBox(random: () => number): Corners {
  const x1 = Math.floor(random() * 90);
  const y1 = Math.floor(random() * 70);
  return [x1, y1, x1 + 1 + Math.floor(random() * (99 - x1)), y1 + 1 + Math.floor(random() * (79 - y1))];
}
