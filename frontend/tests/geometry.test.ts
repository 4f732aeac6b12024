import { describe, expect, test } from "vitest";

import {
  boxArea,
  type Corners,
  cursorOf,
  cut,
  type Handle,
  handleAt,
  hit,
  inside,
  moved,
  resized,
  upright,
} from "@/stage/geometry";
import { randomBox, randomFrom } from "./random";

const BOX: Corners = [10, 20, 50, 40];

describe("a point and a box", () => {
  test("edges belong to it, and so does the margin", () => {
    expect(inside(BOX, { x: 10, y: 20 })).toBe(true);
    expect(inside(BOX, { x: 50, y: 40 })).toBe(true);
    expect(inside(BOX, { x: 50.1, y: 30 })).toBe(false);
    expect(inside(BOX, { x: 53, y: 30 }, 3)).toBe(true);
    expect(inside(BOX, { x: 30, y: 43.1 }, 3)).toBe(false);
  });

  test("of several boxes under it the smallest is hit, as a search of all pixels finds", () => {
    const random = randomFrom(1);
    for (let round = 0; round < 300; round++) {
      const boxes = Array.from({ length: 6 }, () => randomBox(random));
      const point = { x: random() * 100, y: random() * 80 };
      const under = boxes
        .map((box, index) => ({ index, area: (box[2] - box[0]) * (box[3] - box[1]), box }))
        .filter(({ box }) => point.x >= box[0] && point.x <= box[2] && point.y >= box[1] && point.y <= box[3])
        .sort((a, b) => a.area - b.area || a.index - b.index);
      expect(hit(boxes, point, 0)).toBe(under[0]?.index ?? -1);
    }
  });
});

describe("handles", () => {
  const cases: [number, number, Handle | null][] = [
    [10, 20, { x: -1, y: -1 }],
    [50, 40, { x: 1, y: 1 }],
    [30, 20, { x: 0, y: -1 }],
    [50, 30, { x: 1, y: 0 }],
    [30, 30, null],
    [60, 30, null],
  ];
  test.each(cases)("at %d, %d", (x, y, expected) => expect(handleAt(BOX, { x, y }, 4)).toEqual(expected));

  test("a box a few pixels wide keeps a middle to be moved by", () => {
    expect(handleAt([10, 10, 22, 22], { x: 16, y: 16 }, 6)).toBeNull();
  });

  test("the pointer shows the way", () => {
    expect(cursorOf({ x: 0, y: 1 })).toBe("ns-resize");
    expect(cursorOf({ x: -1, y: 0 })).toBe("ew-resize");
    expect(cursorOf({ x: -1, y: -1 })).toBe("nwse-resize");
    expect(cursorOf({ x: 1, y: -1 })).toBe("nesw-resize");
  });
});

describe("changes of a box", () => {
  test("only the edges of the handle move", () => {
    expect(resized(BOX, { x: 1, y: 0 }, { x: 60, y: 99 })).toEqual([10, 20, 60, 40]);
    expect(resized(BOX, { x: -1, y: -1 }, { x: 5, y: 6 })).toEqual([5, 6, 50, 40]);
  });

  test("an edge pulled past the other one turns the box over", () => {
    expect(resized(BOX, { x: 1, y: 0 }, { x: 4, y: 0 })).toEqual([4, 20, 10, 40]);
    expect(upright([9, 8, 1, 2])).toEqual([1, 2, 9, 8]);
  });

  test("moving keeps the size and stays in the picture, wherever it is pushed", () => {
    const random = randomFrom(2);
    for (let round = 0; round < 300; round++) {
      const box = randomBox(random);
      const next = moved(box, 300 * random() - 150, 300 * random() - 150, 100, 80);
      expect(next[2] - next[0]).toBeCloseTo(box[2] - box[0], 9);
      expect(next[3] - next[1]).toBeCloseTo(box[3] - box[1], 9);
      expect(next[0]).toBeGreaterThanOrEqual(0);
      expect(next[1]).toBeGreaterThanOrEqual(0);
      expect(next[2]).toBeLessThanOrEqual(100 + 1e-9);
      expect(next[3]).toBeLessThanOrEqual(80 + 1e-9);
    }
  });

  test("moving within the picture moves by just that", () =>
    expect(moved(BOX, 3, -4, 100, 80)).toEqual([13, 16, 53, 36]));

  test("cutting lands on tenths of a pixel within the picture", () => {
    expect(cut([-3, 5.04, 120, 79.96], 100, 80)).toEqual([0, 5, 100, 80]);
    expect(cut([30, 30, 10, 20], 100, 80)).toEqual([10, 20, 30, 30]);
  });

  test("a box that was cut away has no area", () => {
    expect(boxArea(cut([120, 10, 140, 20], 100, 80))).toBe(0);
    expect(boxArea(BOX)).toBe(800);
  });
});
