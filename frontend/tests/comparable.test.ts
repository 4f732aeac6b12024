import { describe, expect, test } from "vitest";

import type { Evaluation } from "@/api/client";
import { between } from "@/parts/format";
import { comparable } from "@/views/judge/comparable";

/** A measurement of the best weights of a run, on the validation part of one snapshot. */
function measured(id: number, more: object = {}): Evaluation {
  const report = { milliseconds: 20 + id, map: 0.8 };
  const usual = { run_id: id, part: "validation", snapshot_id: 1, settings: { checkpoint: "best" }, report };
  return { id, name: `Run ${id}`, ...usual, ...more } as unknown as Evaluation;
}
const numbers = (...given: Parameters<typeof comparable>) => comparable(...given).map((each) => each.id);

describe("measurements in one chart", () => {
  test("the chosen two come first, then the others on the same pictures", () => {
    expect(numbers([measured(3), measured(2), measured(1)], 1, 2)).toEqual([2, 1, 3]);
  });

  test("other parts, other snapshots and measurements without a speed are left out", () => {
    const others = [
      measured(4, { part: "test" }),
      measured(5, { snapshot_id: 2 }),
      measured(6, { report: { map: 0.9 } }),
      measured(7, { report: null }),
    ];
    expect(numbers([measured(1), ...others], 1, undefined)).toEqual([1]);
  });

  test("a model measured twice is there once: as it was chosen, else as it is listed first", () => {
    const again = measured(9, { run_id: 1 });
    expect(numbers([again, measured(1), measured(2)], 1, 2)).toEqual([1, 2]);
    expect(numbers([again, measured(1), measured(2)], 2, undefined)).toEqual([2, 9]);
  });

  test("other weights of a run, models combined and models from outside are models of their own", () => {
    const all = [
      measured(1),
      measured(2, { run_id: 1, settings: { checkpoint: "latest" } }),
      measured(3, { run_id: null, ensemble_id: 7 }),
      measured(4, { run_id: null, name: "Another program" }),
      measured(5, { run_id: null, name: "Another program" }),
    ];
    expect(numbers(all, 1, 2)).toEqual([1, 2, 3, 4]);
  });

  test("without a choice the first one listed says on which pictures; without any there is nothing", () => {
    expect(numbers([measured(2, { part: "test" }), measured(1)], undefined, undefined)).toEqual([2]);
    expect(numbers([], undefined, undefined)).toEqual([]);
  });

  test("a range is told with three digits, none with nothing", () => {
    expect([between([0.82951, 0.9]), between(null), between(undefined)]).toEqual(["0.830 to 0.900", "", ""]);
  });
});
