/** Two versions of one picture's boxes that came from the same one, brought together box by box. */
import type { DrawnBox } from "@/api/client";
import { overlap } from "@/stage/geometry";
import type { Version } from "@/views/labels/editing/history";

/** Boxes that overlap so much are taken for one that was moved. */
const SAME_BOX = 0.5;

/** Boxes of one class that overlap so much are one object: drawn by two people, or copied again. */
const DRAWN_TWICE = 0.8;

function plain(box: DrawnBox): string {
  return JSON.stringify([box.class_id, box.corners, box.crowd, Object.entries(box.attributes).sort(), box.track]);
}

/** Whether two lists hold the same boxes in the same order. */
export function sameBoxes(some: readonly DrawnBox[], others: readonly DrawnBox[]): boolean {
  return some.length === others.length && some.every((box, place) => plain(box) === plain(others[place]!));
}

/** Whether two boxes of one class stand for one object. */
export function drawnTwice(some: DrawnBox, other: DrawnBox): boolean {
  return some.class_id === other.class_id && overlap(some.corners, other.corners) >= DRAWN_TWICE;
}

/** For each box of the first list its place in the second, or -1: the same ones first, then those nearest by. */
function pairs(base: readonly DrawnBox[], later: readonly DrawnBox[]): number[] {
  const found = base.map(() => -1);
  const taken = new Set<number>();
  const keys = later.map(plain);
  base.forEach((box, place) => {
    const key = plain(box);
    const at = keys.findIndex((each, other) => each === key && !taken.has(other));
    if (at >= 0) {
      found[place] = at;
      taken.add(at);
    }
  });
  const near = base.flatMap((box, place) =>
    found[place]! >= 0
      ? []
      : later.flatMap((other, at) => (taken.has(at) ? [] : [{ place, at, iou: overlap(box.corners, other.corners) }])),
  );
  for (const { place, at, iou } of near.sort((a, b) => b.iou - a.iou)) {
    if (iou < SAME_BOX || found[place]! >= 0 || taken.has(at)) continue;
    found[place] = at;
    taken.add(at);
  }
  return found;
}

/** One box that both have: what either changed of it; where both changed the same, mine. */
function together(base: DrawnBox, mine: DrawnBox, theirs: DrawnBox): DrawnBox {
  const differs = (a: unknown, b: unknown) => JSON.stringify(a) !== JSON.stringify(b);
  const pick = <K extends keyof DrawnBox>(name: K): DrawnBox[K] =>
    differs(mine[name], base[name]) ? mine[name] : theirs[name];
  const attributes: DrawnBox["attributes"] = {};
  const names = new Set([base, mine, theirs].flatMap((box) => Object.keys(box.attributes)));
  for (const name of names) {
    const [was, here, there] = [base, mine, theirs].map((box) => box.attributes[name]);
    const value = differs(here, was) ? here : there;
    if (value !== undefined) attributes[name] = value;
  }
  return {
    class_id: pick("class_id"),
    corners: pick("corners"),
    crowd: pick("crowd"),
    attributes,
    track: pick("track"),
    origin: pick("origin"),
  };
}

/**
 * What both made of a picture: boxes that either drew are there, and those that either deleted are gone, unless
 * the other one changed them meanwhile.
 */
export function merged(base: Version, mine: Version, theirs: Version): Version {
  const [atMine, atTheirs] = [pairs(base.boxes, mine.boxes), pairs(base.boxes, theirs.boxes)];
  const boxes: DrawnBox[] = [];
  base.boxes.forEach((box, place) => {
    const [here, there] = [mine.boxes[atMine[place]!], theirs.boxes[atTheirs[place]!]];
    if (here && there) boxes.push(together(box, here, there));
    else {
      const left = here ?? there;
      if (left && plain(left) !== plain(box)) boxes.push(left);
    }
  });
  const [oldMine, oldTheirs] = [new Set(atMine), new Set(atTheirs)];
  boxes.push(...theirs.boxes.filter((_, place) => !oldTheirs.has(place)));
  const drawn = mine.boxes.filter((_, place) => !oldMine.has(place));
  boxes.push(
    ...drawn.filter((box) => !theirs.boxes.some((other, place) => !oldTheirs.has(place) && drawnTwice(box, other))),
  );
  const state = mine.state === base.state ? theirs.state : mine.state;
  if (boxes.length) return { boxes, state: state === "empty" || state === "unlabelled" ? "in_progress" : state };
  return { boxes, state: state === "in_progress" || state === "done" ? "unlabelled" : state };
}
