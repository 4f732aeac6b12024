import { beforeEach, describe, expect, test } from "vitest";

import { classesLike, classesUsed, classNumbers, SOON, useClass } from "@/state/classNumbers";

describe("digits as numbers of classes", () => {
  let now = 0;
  const read = (highest: number, ...typed: [string, number][]): number[] => {
    const numbers = classNumbers(() => now);
    return typed.map(([digit, after]) => {
      now += after;
      return numbers.read(digit, highest);
    });
  };

  test.each([
    ["one digit", 12, [["3", 0]], [3]],
    [
      "two soon after one another",
      12,
      [
        ["1", 0],
        ["2", SOON - 1],
      ],
      [1, 12],
    ],
    [
      "two with a pause are two classes",
      12,
      [
        ["1", 0],
        ["2", SOON + 1],
      ],
      [1, 2],
    ],
    [
      "two where no class has so high a number",
      12,
      [
        ["1", 0],
        ["3", 10],
      ],
      [1, 3],
    ],
    [
      "a third begins anew",
      40,
      [
        ["1", 0],
        ["2", 10],
        ["3", 10],
      ],
      [1, 12, 3],
    ],
    [
      "three where there are so many",
      300,
      [
        ["1", 0],
        ["2", 10],
        ["3", 10],
      ],
      [1, 12, 123],
    ],
    [
      "up to nine classes each digit is one",
      9,
      [
        ["1", 0],
        ["1", 10],
      ],
      [1, 1],
    ],
    [
      "ten",
      12,
      [
        ["1", 0],
        ["0", 10],
      ],
      [1, 10],
    ],
    [
      "nought alone is none",
      12,
      [
        ["0", 0],
        ["1", 10],
      ],
      [0, 1],
    ],
  ] as [string, number, [string, number][], number[]][])("%s", (_, highest, typed, wanted) => {
    expect(read(highest, ...typed)).toEqual(wanted);
  });

  test("a nought belongs to the digit before it only where there are ten classes", () => {
    const numbers = classNumbers(() => now);
    expect(numbers.begun(20)).toBe(false);
    numbers.read("1", 20);
    expect([numbers.begun(9), numbers.begun(10)]).toEqual([false, true]);
    now += SOON;
    expect(numbers.begun(10)).toBe(false);
  });
});

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
  beforeEach(() => localStorage.clear());

  test("is kept for each project, the very last first, each once", () => {
    for (const each of [1, 2, 3, 2]) useClass(71, each);
    useClass(72, 9);
    expect([classesUsed(71), classesUsed(72), classesUsed(73)]).toEqual([[2, 3, 1], [9], []]);
    expect(JSON.parse(localStorage.getItem("avocet.classes.71")!)).toEqual([2, 3, 1]);
  });

  test("what cannot be read is forgotten", () => {
    localStorage.setItem("avocet.classes.74", '[1, "two"');
    localStorage.setItem("avocet.classes.75", '[1, "two", 3]');
    expect([classesUsed(74), classesUsed(75)]).toEqual([[], [1, 3]]);
  });
});
