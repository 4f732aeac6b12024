import { describe, expect, test } from "vitest";

import type { CarriedBox } from "@/api/client";
import type { Corners } from "@/stage/geometry";
import * as at from "@/views/clips/editing/trajectory";
import { dotAt, trailOf } from "@/views/clips/editing/trail";
import { randomFrom } from "./random";

const box = (x: number): Corners => [x, 0, x + 10, 10];
const track = (changes: Partial<at.Track> = {}): at.Track => ({
  number: 1,
  uid: "a1",
  class_id: 1,
  spans: [
    [10, 20],
    [30, 40],
  ],
  sets: [
    { frame: 10, corners: box(0), held: false, origin: "hand" },
    { frame: 20, corners: box(100), held: false, origin: "carried" },
    { frame: 35, corners: box(400), held: true, origin: "hand" },
    { frame: 40, corners: box(500), held: false, origin: "hand" },
  ],
  attributes: [],
  unsure: [],
  model: "",
  standing: "kept",
  ...changes,
});
const seen = (each: at.Track, to = 50): string =>
  Array.from({ length: to }, (_, frame) => (at.isInSight(each, frame) ? "x" : ".")).join("");

describe("where an object is", () => {
  test("between set boxes, before, after, and held", () => {
    const x = (frame: number): number => at.boxAt(track(), frame)[0];
    expect([5, 10, 15, 20, 26, 35, 39, 40, 99].map(x)).toEqual([0, 0, 50, 100, 220, 400, 400, 500, 500]);
  });

  test("spans are tidied into ones that do not touch, whatever they were", () => {
    const next = randomFrom(3);
    for (let round = 0; round < 200; round += 1) {
      const spans = Array.from({ length: 1 + Math.floor(next() * 6) }, (): [number, number] => {
        const first = Math.floor(next() * 40);
        return [first, first + Math.floor(next() * 8)];
      });
      const flags = new Set(spans.flatMap(([a, b]) => Array.from({ length: b - a + 1 }, (_, n) => a + n)));
      const tidy = at.tidied(spans);
      expect(new Set(tidy.flatMap(([a, b]) => Array.from({ length: b - a + 1 }, (_, n) => a + n)))).toEqual(flags);
      expect(tidy.every(([first], place) => !place || first > tidy[place - 1]![1] + 1)).toBe(true);
    }
  });
});

describe("what a person does to it", () => {
  test("a box set beyond its sight brings it into sight up to there", () => {
    expect(seen(at.setBox(track(), 45, box(1)))).toBe(seen(track({ spans: [[10, 20], [30, 45]] }))); // prettier-ignore
    expect(seen(at.setBox(track(), 5, box(1)))).toBe(seen(track({ spans: [[5, 20], [30, 40]] }))); // prettier-ignore
    expect(seen(at.setBox(track(), 25, box(1)))).toBe(seen(track({ spans: [[10, 20], [25, 25], [30, 40]] }))); // prettier-ignore
    const moved = at.setBox(track({ unsure: [20, 33] }), 20, box(7));
    expect([at.boxAt(moved, 20)[0], moved.sets[1]!.origin, moved.unsure]).toEqual([7, "hand", [33]]);
  });

  test("its only box cannot be taken away", () => {
    expect(at.unset(track(), 20)!.sets.map((each) => each.frame)).toEqual([10, 35, 40]);
    expect(at.unset(track(), 11)).toBe(null);
    expect(at.unset(track({ sets: [track().sets[0]!] }), 10)).toBe(null);
  });

  test("sight begins, ends, breaks off and comes again; no set box is lost by it", () => {
    const spans = (each: at.Track | null): unknown => each?.spans;
    expect(spans(at.beginHere(track(), 15))).toEqual([[15, 20], [30, 40]]); // prettier-ignore
    expect(spans(at.beginHere(track(), 25))).toEqual([[10, 20], [25, 40]]); // prettier-ignore
    expect(spans(at.beginHere(track(), 45))).toEqual([[10, 20], [30, 40], [45, 45]]); // prettier-ignore
    expect(spans(at.endHere(track(), 15))).toEqual([[10, 15], [30, 40]]); // prettier-ignore
    expect(spans(at.endHere(track(), 29))).toEqual([[10, 40]]); // prettier-ignore
    expect(spans(at.endHere(track(), 3))).toEqual([[3, 3], [10, 20], [30, 40]]); // prettier-ignore
    expect(spans(at.withEnd(track(), 0, 1, 25))).toEqual([[10, 25], [30, 40]]); // prettier-ignore
    expect(spans(at.withEnd(track(), 1, 0, 15))).toEqual([[10, 40]]); // prettier-ignore
    expect(spans(at.withEnd(track(), 0, 0, 99))).toEqual([[20, 20], [30, 40]]); // prettier-ignore
    expect(spans(at.hideFrom(track(), 32))).toEqual([[10, 20], [30, 31], [35, 40]]); // prettier-ignore
    expect(spans(at.hideFrom(track(), 36))).toEqual([[10, 20], [30, 35], [40, 40]]); // prettier-ignore
    expect(at.hideFrom(track(), 25)).toBe(null);
    expect(at.hideFrom(track({ spans: [[5, 9]] }), 5)).toBe(null);
    expect(spans(at.showFrom(track(), 24))).toEqual([[10, 20], [24, 40]]); // prettier-ignore
    expect(at.showFrom(track(), 15)).toBe(null);
    expect(at.hideFrom(track(), 32)!.sets).toEqual(track().sets);
  });

  test("parted and joined again it is where it was", () => {
    const next = randomFrom(8);
    for (let round = 0; round < 100; round += 1) {
      const whole = track({ attributes: [{ frame: 12, values: { burnt: true } }], unsure: [14, 33] });
      const frame = 11 + Math.floor(next() * 30);
      const [one, other] = at.partAt(whole, frame, 7)!;
      expect([one.number, other.number]).toEqual([1, 7]);
      expect(at.lastFrame(one)).toBeLessThan(frame);
      expect(at.firstFrame(other)).toBeGreaterThanOrEqual(frame);
      const again = at.joined(other, one);
      expect([again.number, seen(again), again.unsure]).toEqual([1, seen(whole), whole.unsure]);
      for (let each = 0; each < 50; each += 1) {
        if (!at.isInSight(whole, each)) continue;
        const [x] = at.boxAt(each < frame ? one : other, each);
        expect(x).toBeCloseTo(at.boxAt(whole, each)[0]);
        expect(at.attributesAt(each < frame ? one : other, each)).toEqual(at.attributesAt(whole, each));
      }
    }
    expect(at.partAt(track(), 10, 7)).toBe(null);
    expect(at.partAt(track(), 41, 7)).toBe(null);
  });

  test("attributes hold for all of it, or from a frame on", () => {
    const value = (each: at.Track, frame: number): unknown => at.attributesAt(each, frame).burnt;
    let now = at.withAttribute(track(), 15, "burnt", true, false);
    expect([value(now, 14), value(now, 15), value(now, 40)]).toEqual([undefined, true, true]);
    now = at.withAttribute(now, 35, "burnt", false, false);
    expect([value(now, 34), value(now, 35)]).toEqual([true, undefined]);
    now = at.withAttribute(now, 20, "burnt", true, true);
    expect(now.attributes).toEqual([{ frame: 0, values: { burnt: true } }]);
    expect(at.withAttribute(now, 0, "burnt", false, true).attributes).toEqual([]);
  });

  test("what was followed takes the place of what was there, but for boxes that a person set", () => {
    const found: CarriedBox = {
      number: 1,
      ended: "left",
      frames: [12, 18, 28],
      boxes: [box(1), box(2), box(3)],
      spans: [[12, 22], [26, 28]],
      unsure: [27],
      sureness: 0.5,
      followed: 16,
    }; // prettier-ignore
    const now = at.withFollowed(track({ unsure: [20, 36] }), found, 12);
    expect(now.spans).toEqual([[10, 22], [26, 28], [30, 40]]); // prettier-ignore
    expect(now.sets.map((each) => [each.frame, each.origin])).toEqual([
      [10, "hand"], [12, "carried"], [18, "carried"], [28, "carried"], [35, "hand"], [40, "hand"],
    ]); // prettier-ignore
    expect(now.unsure).toEqual([27, 36]);
  });

  test("places to stop at", () => {
    expect(at.places([track({ unsure: [33] })])).toEqual([10, 20, 30, 33, 35, 40]);
  });
});

test("a trail breaks where the object is out of sight, and its dots are taken hold of", () => {
  const { lines, dots } = trailOf(track());
  expect(lines.map((line) => line.map((point) => point.x))).toEqual([[5, 105], [305, 405, 505]]); // prettier-ignore
  expect(dots.map((dot) => dot.byHand)).toEqual([true, false, true, true]);
  expect(dotAt(track(), { x: 104, y: 6 }, 5, 0)).toBe(20);
  expect(dotAt(track(), { x: 104, y: 6 }, 5, 20)).toBe(null);
  expect(dotAt(track(), { x: 200, y: 6 }, 5, 0)).toBe(null);
});
