import { describe, expect, test } from "vitest";

import type { Plan } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import { sideAdvice, sideTrial } from "@/views/train/ahead/sideAdvice";

const SIDES = [256, 384, 512];

/** A plan with so many boxes too small at each side, seen from one of them. */
function plan(small: number[], advised: number, side: number, sized = 40, own = 1280): Plan {
  const sides = SIDES.map((each, at) => ({ side: each, small: small[at], cost: (each / side) ** 2 }));
  return { sides, advised_side: advised, own_side: own, side, sized } as unknown as Plan;
}
const px = `${CONSTANTS.resolved} pixels`;

describe("what is said of an input side", () => {
  test("without a box nothing is said of boxes", () => {
    expect(sideAdvice(plan([0, 0, 0], 256, 384, 0), 384)).not.toMatch(/\d/);
  });

  test("the advised side suits, a larger one would do with less, at a smaller one many are small", () => {
    const small = [0.4, 0.02, 0];
    expect(sideAdvice(plan(small, 384, 384), 384)).toBe(
      `Side 384 suits these boxes: nearly all are ${px} or more. ` +
        `Side 512 would bring 2 % of the boxes above ${px}, for 1.8 times the time.`,
    );
    expect(sideAdvice(plan(small, 384, 512), 512)).toBe(
      `Side 384 would do: nearly all boxes are ${px} or more there, and it is quicker.`,
    );
    expect(sideAdvice(plan(small, 384, 256), 256)).toBe(
      "Many boxes are small here; side 384 suits them. " +
        `Side 384 would bring 38 % of the boxes above ${px}, for 2.3 times the time.`,
    );
  });

  test("where no side suits, none is said to", () => {
    const small = [0.8, 0.5, 0.23];
    expect(sideAdvice(plan(small, 512, 512), 512)).toBe(
      `Side 512 is the largest advised for these pictures; 23 % of the boxes are still under ${px} there.`,
    );
    expect(sideAdvice(plan(small, 512, 384), 384)).toBe(
      `50 % of the boxes are under ${px} here, 23 % at side 512, the largest advised for these pictures. ` +
        `Side 512 would bring 27 % of the boxes above ${px}, for 1.8 times the time.`,
    );
  });

  test("above the pictures' own side nothing is to be gained", () => {
    expect(sideAdvice(plan([0.8, 0.5, 0.23], 384, 384, 40, 400), 384)).toContain(
      "Most pictures have a longer side of 400 pixels or less; a larger input side adds no detail.",
    );
  });

  test("a larger side that lifts hardly a box is said to", () => {
    expect(sideAdvice(plan([0.03, 0.028, 0], 256, 256), 256)).toContain("lift hardly any box");
  });
});

describe("two sides to try", () => {
  const small = [0.4, 0.02, 0];

  test("are the advised one and the next larger, or the chosen one where that is another", () => {
    expect(sideTrial(plan(small, 384, 384), 384)).toEqual([384, 512]);
    expect(sideTrial(plan(small, 384, 256), 256)).toEqual([256, 384]);
    expect(sideTrial(plan(small, 384, 512), 512)).toEqual([384, 512]);
  });

  test("are none above the pictures' own, and the next smaller one where there is no larger", () => {
    expect(sideTrial(plan(small, 384, 384, 40, 400), 384)).toEqual([256, 384]);
    expect(sideTrial(plan(small, 512, 512), 512)).toEqual([384, 512]);
    expect(sideTrial(plan(small, 256, 256, 40, 300), 256)).toBeNull();
  });

  test("are none before there are boxes", () => {
    expect(sideTrial(plan(small, 384, 384, 0), 384)).toBeNull();
  });
});
