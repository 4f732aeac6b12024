import { beforeEach, describe, expect, test, vi } from "vitest";
import { ref } from "vue";

import { api, type DrawnBox } from "@/api/client";
import { useLabelling } from "@/views/labels/editing/labelling";
import { later } from "./mounted";

const said = vi.hoisted(() => [] as string[]);
vi.mock("@/state/notes", () => ({ say: (words: string) => said.push(words), complain: () => undefined }));

let project = 500;
const box = (x: number, class_id = 1): DrawnBox => ({
  class_id,
  origin: null,
  corners: [x, 10, x + 20, 30],
  crowd: false,
  attributes: {},
  track: 7,
});

describe("the boxes of a picture", () => {
  let work: ReturnType<typeof useLabelling>;
  let touched = 0;
  beforeEach(() => {
    touched = 0;
    said.length = 0;
    work = useLabelling(++project, 3, ref({ width: 100, height: 80 }), () => (touched += 1));
    work.show({ boxes: [box(0), box(40), box(70, 2)], state: "in_progress" });
  });
  const xs = (): number[] => work.boxes.value.map((each) => each.corners[0]);

  test("boxes of another picture come once, and what is left out is said", () => {
    work.show({ boxes: [box(0)], state: "in_progress" });
    const others = [box(2), box(2, 2), box(50), box(85)];
    work.takeOver(others);
    // The first is here already, of its class; the last has no place.
    expect(work.boxes.value.map((each) => [each.corners[0], each.class_id])).toEqual([
      [0, 1],
      [2, 2],
      [50, 1],
    ]);
    expect([work.selection.value, work.boxes.value[1]!.track]).toEqual([[1, 2], null]);
    expect(said).toEqual(["1 box does not fit here; 1 is here already"]);
    work.takeOver(others);
    expect([work.boxes.value.length, said[1]]).toEqual([3, "1 box does not fit here; 3 are here already"]);
    work.takeOver([box(50)]);
    expect([work.boxes.value.length, said[2]]).toEqual([3, "1 is here already"]);
  });

  test("showing a picture is no change of it", () => {
    expect(touched).toBe(0);
    expect(work.history.canUndo.value).toBe(false);
  });

  test("all selected boxes move together and stay in the picture", () => {
    work.selection.value = [1, 2];
    expect(work.nudge(50, 0)).toBe(true);
    expect(xs()).toEqual([0, 80, 80]);
    work.selection.value = [];
    expect(work.nudge(5, 0)).toBe(false);
    expect(touched).toBe(1);
  });

  test("growing stops at one pixel and at the edge", () => {
    work.selection.value = [2];
    work.grow(500, -500);
    expect(work.boxes.value[2]!.corners).toEqual([70, 10, 100, 11]);
  });

  test("the last box that is removed leaves the picture unlabelled, the first one drawn begins it", () => {
    work.selection.value = [0, 1, 2];
    work.remove();
    expect([work.boxes.value.length, work.state.value]).toEqual([0, "unlabelled"]);
    work.add([box(5)]);
    expect([work.state.value, work.selection.value]).toEqual(["in_progress", [0]]);
  });

  test("a picture that is done stays done, whatever is removed", () => {
    work.show({ boxes: [box(0)], state: "done" });
    work.selection.value = [0];
    work.remove();
    expect(work.state.value).toBe("done");
  });

  test("a class that the boxes have already is no change", () => {
    work.selection.value = [0, 1];
    work.setClass(1);
    expect(touched).toBe(0);
    work.setClass(2);
    expect(work.boxes.value.map((each) => each.class_id)).toEqual([2, 2, 2]);
  });

  test.each([false, null, "", undefined])("an attribute set to %s is taken off", (nothing) => {
    work.selection.value = [0];
    work.setAttribute("burnt", true);
    expect(work.boxes.value[0]!.attributes).toEqual({ burnt: true });
    work.setAttribute("burnt", nothing);
    expect(work.boxes.value[0]!.attributes).toEqual({});
  });

  test("a duplicate lies beside its box, is selected, and is another object", () => {
    work.selection.value = [0];
    work.duplicate();
    expect(work.boxes.value[3]!.corners).toEqual([10, 20, 30, 40]);
    expect(work.boxes.value[3]!.track).toBeNull();
    expect(work.selection.value).toEqual([3]);
  });

  test("copies go to another picture, cut to it; what lies outside stays behind", () => {
    work.selection.value = [0, 2];
    expect(work.copy()).toBe(true);
    const small = useLabelling(project, 4, ref({ width: 30, height: 20 }), () => undefined);
    small.show({ boxes: [], state: "empty" });
    expect(small.paste()).toBe(true);
    expect(small.boxes.value.map((each) => each.corners)).toEqual([[0, 10, 20, 20]]);
    expect(small.state.value).toBe("in_progress");
  });

  test("what is undone looks as it did", () => {
    work.selection.value = [1];
    work.nudge(3, 0);
    work.apply(work.history.nextUndo()!.version);
    work.history.undone();
    expect(xs()).toEqual([0, 40, 70]);
    expect(work.history.nextRedo()!.version.boxes.map((each) => each.corners[0])).toEqual([0, 43, 70]);
  });

  test("a box that is moved while its tightening is on the way keeps the move", async () => {
    const answer = later<unknown>();
    vi.spyOn(api, "POST").mockReturnValue(answer.promise as never);
    const tightening = work.tighten([0, 1]);
    work.selection.value = [0];
    work.nudge(5, 0);
    answer.keep({
      data: {
        boxes: [
          [1, 11, 19, 29],
          [41, 11, 59, 29],
        ],
      },
      response: new Response(),
    });
    await tightening;
    expect(work.boxes.value.map((each) => each.corners)).toEqual([
      [5, 10, 25, 30],
      [41, 11, 59, 29],
      [70, 10, 90, 30],
    ]);
  });
});
