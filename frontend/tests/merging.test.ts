import { describe, expect, test } from "vitest";

import type { DrawnBox } from "@/api/client";
import type { Version } from "@/views/labels/editing/history";
import { merged, sameBoxes } from "@/views/labels/saving/merging";
import { randomFrom } from "./random";

const box = (x: number, y = 0, more: Partial<DrawnBox> = {}): DrawnBox => ({
  class_id: 1,
  corners: [x, y, x + 20, y + 20],
  crowd: false,
  attributes: {},
  track: null,
  origin: null,
  ...more,
});
const version = (boxes: DrawnBox[], state: Version["state"] = "in_progress"): Version => ({ boxes, state });
const places = (found: Version): number[] => found.boxes.map((each) => each.corners[0]).sort((a, b) => a - b);

describe("what both did to a picture", () => {
  const base = version([box(0), box(100), box(200)]);

  test("boxes that either drew are there", () => {
    const mine = version([...base.boxes, box(300)]);
    const theirs = version([...base.boxes, box(400), box(500)]);
    expect(places(merged(base, mine, theirs))).toEqual([0, 100, 200, 300, 400, 500]);
  });

  test("boxes that either deleted are gone", () => {
    const mine = version([box(100), box(200)]);
    const theirs = version([box(0), box(100)]);
    expect(places(merged(base, mine, theirs))).toEqual([100]);
  });

  test("a box that one deleted and the other changed stays as it was changed", () => {
    const mine = version([box(100), box(200)]);
    const theirs = version([box(3), box(100), box(200)]);
    expect(places(merged(base, mine, theirs))).toEqual([3, 100, 200]);
  });

  test("a box that one moved and the other named has both", () => {
    const mine = version([box(2), box(100), box(200)]);
    const theirs = version([box(0, 0, { class_id: 7, attributes: { burnt: true } }), box(100), box(200)]);
    const found = merged(base, mine, theirs).boxes[0]!;
    expect([found.corners[0], found.class_id, found.attributes]).toEqual([2, 7, { burnt: true }]);
  });

  test("where both changed the same, the one here wins", () => {
    const mine = version([box(2), box(100), box(200)]);
    const theirs = version([box(4), box(100), box(200)]);
    expect(places(merged(base, mine, theirs))).toEqual([2, 100, 200]);
  });

  test("an object that both drew is there once", () => {
    const mine = version([...base.boxes, box(300)]);
    const theirs = version([...base.boxes, box(301)]);
    expect(places(merged(base, mine, theirs))).toEqual([0, 100, 200, 301]);
  });

  test("the state follows whoever changed it, and fits the boxes", () => {
    expect(merged(base, version(base.boxes, "done"), base).state).toBe("done");
    expect(merged(base, base, version(base.boxes, "done")).state).toBe("done");
    expect(merged(version([], "unlabelled"), version([], "empty"), version([box(0)], "in_progress"))).toEqual(
      version([box(0)], "in_progress"),
    );
    expect(merged(version([box(0)], "done"), version([], "unlabelled"), version([box(0)], "done")).state).toBe(
      "unlabelled",
    );
  });

  test("an undo gives back what was deleted and keeps what others drew since", () => {
    const before = version([box(0), box(100)]);
    const deleted = version([box(0)]);
    const theirs = version([box(0), box(300)]);
    expect(places(merged(deleted, before, theirs))).toEqual([0, 100, 300]);
    // And the other way round: what was drawn goes, what others drew stays.
    const drawn = version([box(0), box(100)]);
    expect(places(merged(drawn, deleted, version([box(0), box(100), box(300), box(400)])))).toEqual([0, 300, 400]);
  });

  test("if only one of them did anything, it is that one's", () => {
    const next = randomFrom(3);
    for (let round = 0; round < 200; round += 1) {
      const some = (): DrawnBox[] =>
        Array.from({ length: Math.floor(6 * next()) }, () =>
          box(60 * Math.floor(8 * next()), 60 * Math.floor(8 * next()), { class_id: 1 + Math.floor(3 * next()) }),
        );
      const [one, other] = [version(some(), "done"), version(some(), "done")];
      const sorted = (found: Version): string => JSON.stringify(found.boxes.map((each) => JSON.stringify(each)).sort());
      const unique = (found: Version): boolean =>
        new Set(found.boxes.map((each) => each.corners.join())).size === found.boxes.length;
      if (!unique(one) || !unique(other)) continue;
      expect(sorted(merged(one, other, one))).toBe(sorted(other));
      expect(sorted(merged(one, one, other))).toBe(sorted(other));
      expect(sorted(merged(one, other, other))).toBe(sorted(other));
    }
  });
});

test("the same boxes are the same in whatever order their attributes are named", () => {
  const one = box(0, 0, { attributes: { a: 1, b: 2 } });
  expect(sameBoxes([one], [box(0, 0, { attributes: { b: 2, a: 1 } })])).toBe(true);
  expect(sameBoxes([one], [box(0)])).toBe(false);
  expect(sameBoxes([one], [])).toBe(false);
});
