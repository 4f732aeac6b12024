import { describe, expect, test } from "vitest";

import { capital, count, duration, precision, threshold } from "@/parts/format";
import { latestOnly } from "@/views/judge/figures/thresholds";
import { later } from "./mounted";

describe("figures as people read them", () => {
  test.each([
    [0, "0 s"],
    [89.4, "89 s"],
    [90, "1 min 30 s"],
    [3599, "59 min 59 s"],
    [3600, "1 h 0 min"],
    [10_799, "3 h 0 min"],
    [7_500, "2 h 5 min"],
    [-3, "0 s"],
  ])("%d seconds are %s", (seconds, words) => expect(duration(seconds)).toBe(words));

  test.each([
    [0.366, "0.366"],
    [0.3, "0.30"],
    [0.25, "0.25"],
    [1, "1.00"],
    [0.1 + 0.2, "0.30"],
    [0.005, "0.005"],
  ])("a threshold of %d is told whole: %s", (value, said) => expect(threshold(value)).toBe(said));

  test("counts have their plural and thousands", () => {
    expect([count(1, "box", "boxes"), count(1943, "box", "boxes"), count(0, "picture")]).toEqual([
      "1 box",
      "1,943 boxes",
      "0 pictures",
    ]);
  });

  test("what is not known is a dash", () => {
    expect([precision(null), precision(undefined), precision(0), precision(0.9996)]).toEqual([
      "–",
      "–",
      "0.000",
      "1.000",
    ]);
  });

  test("only the first letter becomes a capital", () => expect(capital("mAP of runs")).toBe("MAP of runs"));
});

describe("the newest request only", () => {
  test("while one is under way the others wait, and only the last of them is made", async () => {
    const gates = [later<void>(), later<void>(), later<void>()];
    let begun = 0;
    const ask = latestOnly(() => gates[begun++]!.promise);
    for (let turn = 0; turn < 5; turn++) ask();
    expect(begun).toBe(1);
    gates[0]!.keep();
    await new Promise((resolve) => setTimeout(resolve));
    expect(begun).toBe(2);
    gates[1]!.keep();
    await new Promise((resolve) => setTimeout(resolve));
    expect(begun).toBe(2);
    ask();
    expect(begun).toBe(3);
  });
});
