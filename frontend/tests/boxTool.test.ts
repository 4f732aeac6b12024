import { beforeEach, describe, expect, test } from "vitest";
import { ref } from "vue";

import type { DrawnBox } from "@/api/client";
import { useBoxTool } from "@/views/labels/editing/boxTool";

const box = (x: number, y: number, side = 20): DrawnBox => ({
  class_id: 1,
  origin: null,
  corners: [x, y, x + side, y + side],
  crowd: false,
  attributes: {},
  track: null,
});

describe("drawing boxes with the pointer", () => {
  const boxes = ref<DrawnBox[]>([]);
  const selection = ref<number[]>([]);
  const reachable = ref(new Set<number>());
  const ghosts = ref<DrawnBox[]>([]);
  const stamp = ref<{ width: number; height: number } | null>(null);
  let said: string[] = [];
  let allowed = true;
  let newClass: number | null = 7;
  let fresh = -1;
  let tool: ReturnType<typeof useBoxTool>;
  beforeEach(() => {
    boxes.value = [box(10, 10), box(60, 10)];
    reachable.value = new Set([0, 1]);
    selection.value = [];
    ghosts.value = [];
    stamp.value = null;
    said = [];
    allowed = true;
    newClass = 7;
    fresh = -1;
    tool = useBoxTool({
      boxes,
      selection,
      reachable,
      ghosts,
      size: ref({ width: 100, height: 80 }),
      stamp,
      newClass: () => newClass,
      change: (next) => (boxes.value = next),
      fresh: () => fresh,
      drew: (place) => said.push(`drew ${place}`),
      selected: () => said.push("selected"),
      mayDraw: () => allowed,
    });
  });
  type Held = Partial<Pick<PointerEvent, "shiftKey" | "ctrlKey">>;
  function drag(from: [number, number], to: [number, number], held: Held = {}): void {
    const event = held as PointerEvent;
    const [start, end] = [from, to].map(([x, y]) => ({ x, y })) as [{ x: number; y: number }, { x: number; y: number }];
    tool.press(start, event, 3);
    tool.drag(end);
    tool.release(end, event);
  }
  const click = (x: number, y: number, held: Held = {}): void => drag([x, y], [x, y], held);
  const corners = (): number[][] => boxes.value.map((each) => each.corners);

  test("a drag over nothing draws a box of the class, cut to the picture, and selects it", () => {
    drag([90, 70], [130, 40]);
    expect(boxes.value[2]).toMatchObject({ class_id: 7, corners: [90, 40, 100, 70] });
    expect([selection.value, said]).toEqual([[2], ["drew 2"]]);
  });

  test("what is too small is none", () => {
    drag([40, 60], [43, 60.5]);
    expect(boxes.value.length).toBe(2);
  });

  test("two clicks are two corners, and between them the box is seen", () => {
    click(40, 50);
    expect(tool.corner.value).toEqual({ x: 40, y: 50 });
    tool.hover({ x: 55, y: 65 }, 3);
    expect(tool.drawn.value).toEqual([40, 50, 55, 65]);
    click(58, 70);
    expect(corners()[2]).toEqual([40, 50, 58, 70]);
    expect([tool.corner.value, tool.drawn.value]).toEqual([null, null]);
  });

  test("the first corner can be given up", () => {
    click(40, 50);
    expect([tool.cancel(), tool.cancel(), tool.corner.value]).toEqual([true, false, null]);
  });

  test("a click selects, with Ctrl one more or one fewer, and one beside lets go", () => {
    click(15, 15);
    click(65, 15, { ctrlKey: true });
    expect(selection.value).toEqual([0, 1]);
    click(15, 15, { ctrlKey: true });
    expect(selection.value).toEqual([1]);
    click(45, 60);
    expect([selection.value, tool.corner.value]).toEqual([[], null]);
    expect(said).toEqual(["selected", "selected", "selected", "selected"]);
  });

  test("only a selected box is moved, and it stays in the picture", () => {
    drag([15, 15], [18, 40]);
    expect(corners()[0]).toEqual([10, 10, 30, 30]);
    boxes.value = boxes.value.slice(0, 2);
    selection.value = [0];
    drag([20, 20], [10, 95]);
    expect(corners()).toEqual([
      [0, 60, 20, 80],
      [60, 10, 80, 30],
    ]);
    // It is no box that was drawn, nor one that was selected now.
    expect(said).toEqual(["drew 2"]);
  });

  test("a corner of the selected box is pulled, also past the other side", () => {
    selection.value = [0];
    drag([30, 30], [5, 50]);
    expect(corners()[0]).toEqual([5, 10, 10, 50]);
  });

  test("the box that was just drawn gives way to the next one, until a click takes hold of it", () => {
    boxes.value = [];
    reachable.value = new Set([0, 1]);
    drag([20, 20], [50, 50]);
    fresh = 0;
    drag([49, 49], [90, 75]);
    expect(corners()).toEqual([
      [20, 20, 50, 50],
      [49, 49, 90, 75],
    ]);
    fresh = 1;
    drag([60, 60], [70, 70]);
    expect([corners()[1], boxes.value.length]).toEqual([[49, 49, 90, 75], 3]);
    boxes.value = boxes.value.slice(0, 2);
    selection.value = [];
    fresh = -1;
    click(80, 65);
    expect(selection.value).toEqual([1]);
    drag([80, 65], [75, 60]);
    expect(corners()[1]).toEqual([44, 44, 85, 70]);
  });

  test("of boxes that lie over one another a second click takes the one below, and round again", () => {
    boxes.value = [box(10, 10, 30), box(11, 11, 28), box(12, 12, 26)];
    reachable.value = new Set([0, 1, 2]);
    const taken = [1, 2, 3, 4].map(() => {
      click(20, 20);
      return selection.value[0];
    });
    expect(taken).toEqual([2, 1, 0, 2]);
    // What was taken is moved, whatever lies above it.
    click(20, 20);
    drag([20, 20], [22, 22]);
    expect(corners()[1]).toEqual([13, 13, 41, 41]);
  });

  test("a drag draws from where it began, also after a click or a drag too short had set a corner", () => {
    drag([5, 60], [5.5, 60.5]);
    expect(tool.corner.value).toEqual({ x: 5.5, y: 60.5 });
    drag([60, 50], [75, 65]);
    expect([corners()[2], tool.corner.value]).toEqual([[60, 50, 75, 65], null]);
    expect(boxes.value.length).toBe(3);
  });

  test("with Shift one draws on top of another", () => {
    drag([12, 12], [28, 28], { shiftKey: true });
    expect(corners()[2]).toEqual([12, 12, 28, 28]);
    click(20, 20, { shiftKey: true });
    expect(tool.corner.value).toEqual({ x: 20, y: 20 });
  });

  test("what cannot be reached is drawn over", () => {
    reachable.value = new Set([1]);
    click(15, 15);
    expect([selection.value, tool.corner.value]).toEqual([[], { x: 15, y: 15 }]);
  });

  test("where nobody may draw, nothing is drawn nor begun, but boxes are still selected", () => {
    allowed = false;
    drag([40, 50], [58, 70]);
    click(45, 60);
    expect([boxes.value.length, tool.corner.value]).toEqual([2, null]);
    click(15, 15);
    expect(selection.value).toEqual([0]);
  });

  test("without a class nothing is drawn", () => {
    newClass = null;
    drag([40, 50], [58, 70]);
    expect([boxes.value.length, said]).toEqual([2, []]);
  });

  test("a click takes an outline over, as another object", () => {
    ghosts.value = [{ ...box(40, 50), track: 4 }];
    click(45, 55);
    expect(boxes.value[2]).toMatchObject({ corners: [40, 50, 60, 70], track: null, origin: null });
    expect(selection.value).toEqual([2]);
  });

  test("stamping puts a box of that size with each click, cut at the edge", () => {
    stamp.value = { width: 10, height: 6 };
    tool.hover({ x: 50, y: 50 }, 3);
    expect(tool.drawn.value).toEqual([45, 47, 55, 53]);
    click(50, 50);
    click(99, 50);
    expect(corners().slice(2)).toEqual([
      [45, 47, 55, 53],
      [94, 47, 100, 53],
    ]);
  });

  test("the pointer says what it would do", () => {
    selection.value = [0];
    const at = (x: number, y: number): string => {
      tool.hover({ x, y }, 3);
      return tool.cursor.value;
    };
    expect([at(20, 20), at(30, 30), at(65, 15), at(45, 60)]).toEqual(["move", "nwse-resize", "crosshair", "crosshair"]);
  });
});
