import { describe, expect, test } from "vitest";

import type { Address, Run } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import { isSoft, SUPPRESSIONS } from "@/views/anatomy/suppressions";
import { answering, numbersOf, ownScore, runOf } from "@/views/use/models";

const runs = [
  { id: 1, minimum_score: null },
  { id: 2, minimum_score: 0.42 },
] as unknown as Run[];

describe("which model is chosen", () => {
  test("a run, several models combined, or an address are told apart", () => {
    expect(numbersOf("run 3")).toEqual({ run_id: 3, ensemble_id: null });
    expect(numbersOf("ensemble 12")).toEqual({ run_id: null, ensemble_id: 12 });
    expect(numbersOf("address 3")).toEqual({ run_id: null, ensemble_id: null });
    expect(runOf("run 2", runs)?.id).toBe(2);
    expect(runOf("ensemble 2", runs)).toBeUndefined();
  });

  test("it begins with the score that its validation found best, else with the usual one", () => {
    expect(ownScore(runs[1])).toBe(0.42);
    expect(ownScore(runs[0])).toBe(CONSTANTS.minimum_score);
    expect(ownScore(undefined)).toBe(CONSTANTS.minimum_score);
  });

  test("of an address the last model answers", () => {
    const address = { models: [{ name: "First" }, { name: "Second" }] } as unknown as Address;
    expect(answering(address)?.name).toBe("Second");
  });

  test("two ways of suppression are soft", () => {
    expect(SUPPRESSIONS.filter((each) => isSoft(each.value)).map((each) => each.value)).toEqual(["linear", "gaussian"]);
  });
});
