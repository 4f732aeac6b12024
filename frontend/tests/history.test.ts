import { beforeEach, describe, expect, test } from "vitest";

import { useHistory, type Version } from "@/views/labels/editing/history";
import { randomFrom } from "./random";

let project = 0;
const version = (x: number): Version => ({
  boxes: [{ class_id: 1, corners: [x, 0, x + 5, 5], crowd: false, attributes: {}, track: null, origin: null }],
  state: "in_progress",
});

describe("undo and redo of a sitting", () => {
  let history: ReturnType<typeof useHistory>;
  beforeEach(() => (history = useHistory(++project)));

  test("nothing to undo at first", () => {
    expect(history.canUndo.value).toBe(false);
    expect(history.nextUndo()).toBeNull();
    expect(history.nextRedo()).toBeNull();
  });

  test("goes back across pictures, the latest first", () => {
    history.remember(4, version(0), version(1));
    history.remember(9, version(5), version(6));
    expect(history.nextUndo()).toEqual({ pictureId: 9, version: version(5), expected: version(6) });
    history.undone();
    expect(history.nextUndo()).toEqual({ pictureId: 4, version: version(0), expected: version(1) });
    expect(history.nextRedo()).toEqual({ pictureId: 9, version: version(6), expected: version(5) });
  });

  test("a new change ends what could be redone", () => {
    history.remember(4, version(0), version(1));
    history.undone();
    history.remember(4, version(0), version(2));
    expect(history.canRedo.value).toBe(false);
  });

  test("what is remembered does not change with the boxes on the screen", () => {
    const now = version(1);
    history.remember(4, version(0), now);
    now.boxes[0]!.corners[0] = 77;
    history.undone();
    expect(history.nextRedo()!.version).toEqual(version(1));
  });

  test("another project begins a new history", () => {
    history.remember(4, version(0), version(1));
    expect(useHistory(++project).canUndo.value).toBe(false);
  });

  test("any row of changes, undos and redos shows what a list of versions shows", () => {
    const random = randomFrom(3);
    const versions = [0];
    let at = 0;
    for (let step = 1; step < 500; step++) {
      const turn = random();
      if (turn < 0.5) {
        versions.splice(at + 1, versions.length, step);
        history.remember(1, version(versions[at]!), version(step));
        at += 1;
      } else if (turn < 0.8 && at > 0) {
        expect(history.nextUndo()!.version).toEqual(version(versions[at - 1]!));
        history.undone();
        at -= 1;
      } else if (at < versions.length - 1) {
        expect(history.nextRedo()!.version).toEqual(version(versions[at + 1]!));
        history.redone();
        at += 1;
      }
      expect(history.canUndo.value).toBe(at > 0);
      expect(history.canRedo.value).toBe(at < versions.length - 1);
    }
  });

  test("two thousand changes are kept, the oldest go", () => {
    for (let step = 0; step < 2001; step++) history.remember(1, version(step), version(step + 1));
    let undone = 0;
    let last = history.nextUndo();
    while (history.canUndo.value) {
      last = history.nextUndo();
      history.undone();
      undone += 1;
    }
    expect(undone).toBe(2000);
    expect(last!.version).toEqual(version(1));
  });
});
