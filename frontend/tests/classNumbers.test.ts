import { describe, expect, test } from "vitest";

import { classNumbers, SOON } from "@/state/classNumbers";

describe("digits as numbers of classes", () => {
  let now = 0;
  /** So many classes. */
  const many = (count: number) => () => Array.from({ length: count }, (_, place) => ({ position: place + 1 }));
  const read = (highest: number, ...typed: [string, number][]): number[] => {
    const numbers = classNumbers(many(highest), () => now);
    return typed.map(([digit, after]) => {
      now += after;
      return numbers.read(digit)?.position ?? 0;
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
    let count = 20;
    const numbers = classNumbers(
      () => many(count)(),
      () => now,
    );
    expect(numbers.begun()).toBe(false);
    numbers.read("1");
    expect(numbers.begun()).toBe(true);
    count = 9;
    expect(numbers.begun()).toBe(false);
    count = 10;
    expect(numbers.begun()).toBe(true);
    now += SOON;
    expect(numbers.begun()).toBe(false);
  });
});
