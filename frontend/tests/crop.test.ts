import { expect, test } from "vitest";

import { CONSTANTS } from "@/api/declared";
import { both, squareAround } from "@/stage/crop";

test("a crop is the square that the server cuts", () => {
  const around = 20 * CONSTANTS.crop_around;
  const wanted = [10 - around, 5 - around, 20 + 2 * around, 20 + 2 * around];
  squareAround([10, 10, 30, 20]).forEach((each, index) => expect(each).toBeCloseTo(wanted[index]!, 9));
});

test("the box that holds two begins and ends with the outermost of them", () => {
  expect(both([3, 8, 20, 30], [5, 2, 25, 9])).toEqual([3, 2, 25, 30]);
  expect(both([0, 0, 1, 1], [0, 0, 1, 1])).toEqual([0, 0, 1, 1]);
});
