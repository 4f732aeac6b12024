import { describe, expect, test } from "vitest";
import { nextTick } from "vue";

import { classesLike, classesUsed, classWasUsed } from "@/state/classesUsed";

describe("classes found by typing", () => {
  const classes = ["roll", "croissant", "loaf", "pretzel", "ring", "raisin roll"].map((name, place) => ({
    id: 10 + place,
    name,
    position: place + 1,
  }));
  const names = (typed: string, last: number[] = []) => classesLike(classes, typed, last).map((each) => each.name);

  test.each([
    ["RO", ["roll", "croissant", "raisin roll"]],
    ["roll", ["roll", "raisin roll"]],
    ["4", ["pretzel"]],
    ["r", ["roll", "ring", "raisin roll", "croissant", "pretzel"]],
    ["cake", []],
  ])("%s", (typed, wanted) => expect(names(typed)).toEqual(wanted));

  test("the last used come first, the rest in their order", () => {
    expect(names("", [13, 11])).toEqual(["pretzel", "croissant", "roll", "loaf", "ring", "raisin roll"]);
    // What begins with it comes before what was used last.
    expect(names("r", [11])[0]).toBe("roll");
  });
});

describe("which were used last", () => {
  test("is kept for each project, the very last first, each once", async () => {
    for (const each of [1, 2, 3, 2]) classWasUsed(71, each);
    classWasUsed(72, 9);
    expect([classesUsed(71), classesUsed(72), classesUsed(73)]).toEqual([[2, 3, 1], [9], []]);
    await nextTick();
    expect(JSON.parse(localStorage.getItem("avocet.classes")!)).toMatchObject({ 71: [2, 3, 1], 72: [9] });
  });

  test("only so many are kept", () => {
    for (let each = 0; each < 100; each++) classWasUsed(74, each);
    expect([classesUsed(74).length, classesUsed(74)[0]]).toEqual([40, 99]);
  });
});
