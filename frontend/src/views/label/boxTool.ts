/** The pointer over the boxes: draw, choose, move, resize. */
import { computed, type Ref, ref } from "vue";

import { type Corners, cursorOf, cut, type Handle, handleAt, hit, moved, type Point, resized } from "@/stage/geometry";
import type { DrawnBox } from "@/views/label/history";

/** A drag shorter than this many screen grips is a click. */
const LEAST_DRAG = 0.6;

export function useBoxTool(
  boxes: Ref<DrawnBox[]>,
  selected: Ref<number>,
  size: Ref<{ width: number; height: number }>,
  newClass: () => number | null,
  change: (next: DrawnBox[]) => void,
) {
  const drawn = ref<Corners | null>(null);
  const preview = ref<{ index: number; corners: Corners } | null>(null);
  const cursor = ref("crosshair");
  let from: Point | null = null;
  let grip: { index: number; handle: Handle | null; box: Corners } | null = null;
  let reach = 1;

  const corners = computed(() => boxes.value.map((box) => box.corners));

  function find(point: Point, grasp: number): { index: number; handle: Handle | null } | null {
    const chosen = corners.value[selected.value];
    const handle = chosen && handleAt(chosen, point, grasp);
    if (handle) return { index: selected.value, handle };
    const index = hit(corners.value, point, 0);
    return index >= 0 ? { index, handle: null } : null;
  }

  function hover(point: Point, grasp: number): void {
    const found = find(point, grasp);
    cursor.value = found?.handle ? cursorOf(found.handle) : found && found.index === selected.value ? "move" : "crosshair";
  }

  function press(point: Point, event: PointerEvent, grasp: number): void {
    from = point;
    reach = grasp;
    // With Shift a new box can be begun on top of another.
    const found = event.shiftKey ? null : find(point, grasp);
    const box = found && corners.value[found.index];
    if (found && box && (found.handle || found.index === selected.value)) grip = { ...found, box };
    else grip = null;
  }

  function drag(point: Point): void {
    if (!from) return;
    const { width, height } = size.value;
    if (grip) {
      const next = grip.handle
        ? resized(grip.box, grip.handle, point)
        : moved(grip.box, point.x - from.x, point.y - from.y, width, height);
      preview.value = { index: grip.index, corners: cut(next, width, height) };
    } else {
      drawn.value = cut([from.x, from.y, point.x, point.y], width, height);
    }
  }

  function release(point: Point, event: PointerEvent): void {
    const start = from;
    from = null;
    if (preview.value) {
      const { index, corners: next } = preview.value;
      preview.value = null;
      if (next[2] > next[0] && next[3] > next[1]) {
        change(boxes.value.map((box, place) => (place === index ? { ...box, corners: next } : box)));
      }
      return;
    }
    const box = drawn.value;
    drawn.value = null;
    const moves = start ? Math.max(Math.abs(point.x - start.x), Math.abs(point.y - start.y)) : 0;
    if (!box || moves < LEAST_DRAG * reach) {
      if (!event.shiftKey) selected.value = hit(corners.value, point, 0);
      return;
    }
    const classId = newClass();
    if (classId === null || box[2] - box[0] < 1 || box[3] - box[1] < 1) return;
    change([...boxes.value, { class_id: classId, corners: box, crowd: false, attributes: {} }]);
    selected.value = boxes.value.length - 1;
  }

  return { drawn, preview, cursor, hover, press, drag, release };
}
