import { expect, test } from "vitest";

import { changeRange, gap } from "@/parts/format";

test("a change has its sign, with a true minus, and none where a figure is missing", () => {
  expect(gap(0.88, 0.878)).toBe("−0.002");
  expect(gap(0.5, 0.75)).toBe("+0.250");
  expect(gap(0.5, 0.5)).toBe("+0.000");
  expect(gap(null, 0.5)).toBe("–");
  expect(gap(0.5, undefined)).toBe("–");
});

test("a range is told whole or not at all", () => {
  expect(changeRange(-0.04, 0.012)).toBe("−0.040 to +0.012");
  expect(changeRange(null, 0.012)).toBe("");
  expect(changeRange(undefined, undefined)).toBe("");
});
