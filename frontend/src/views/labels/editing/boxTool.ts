/** Drawing, moving and resizing boxes with the pointer: by drag, or by one click for each corner. */
import { computed, type Ref, ref } from "vue";

import {
  type Corners,
  cursorOf,
  cut,
  type Handle,
  handleAt,
  hit,
  hits,
  moved,
  type Point,
  resized,
} from "@/stage/geometry";
import type { DrawnBox } from "@/api/client";

/** A drag shorter than this many screen grips is a click. */
const LEAST_DRAG = 0.6;
/** A selected box is moved by less than that, but not by the tremble of a click. */
const LEAST_MOVE = 0.2;

export interface ToolOptions {
  boxes: Ref<DrawnBox[]>;
  /** Places of the selected boxes; the last one has the handles. */
  selection: Ref<number[]>;
  /** Places of boxes that can be hit: those that are shown and not dimmed. */
  reachable: Ref<Set<number>>;
  /** Outlines of the picture before, to be taken over by a click. */
  ghosts: Ref<DrawnBox[]>;
  size: Ref<{ width: number; height: number }>;
  /** A click puts a box of this size. */
  stamp: Ref<{ width: number; height: number } | null>;
  newClass: () => number | null;
  change: (next: DrawnBox[]) => void;
  /** Place of the box that was just drawn, until it is selected by hand; -1 if none. */
  fresh: () => number;
  /** Called with the place of every box that was just drawn. */
  drew: (place: number) => void;
  /** Called when a person selects boxes that are there. */
  selected: () => void;
  /** Whether a new box may be drawn; it says why not. */
  mayDraw: () => boolean;
}

export function useBoxTool(options: ToolOptions) {
  const { boxes, selection, reachable, ghosts, size, stamp, newClass, change, fresh, drew, selected, mayDraw } =
    options;
  const drawn = ref<Corners | null>(null);
  const preview = ref<{ index: number; corners: Corners } | null>(null);
  const cursor = ref("crosshair");
  /** The first corner of a box that is drawn click by click. */
  const corner = ref<Point | null>(null);
  let from: Point | null = null;
  let grip: { index: number; handle: Handle | null; box: Corners } | null = null;
  let reach = 1;

  const nowhere: Corners = [-1, -1, -1, -1];
  const corners = computed(() => boxes.value.map((box, index) => (reachable.value.has(index) ? box.corners : nowhere)));
  const last = computed(() => selection.value.at(-1) ?? -1);
  /** The box that can be moved and stretched: not one that was just drawn, which gives way to the next one. */
  const held = computed(() => (last.value === fresh() ? -1 : last.value));

  function find(point: Point, grasp: number): { index: number; handle: Handle | null } | null {
    const chosen = corners.value[held.value];
    const handle = chosen && handleAt(chosen, point, grasp);
    if (handle) return { index: held.value, handle };
    // What is selected is taken hold of also where another one lies above it.
    const found = hits(corners.value, point);
    const index = found.includes(held.value) ? held.value : found[0];
    return index === undefined ? null : { index, handle: null };
  }

  function hover(point: Point, grasp: number): void {
    const { width, height } = size.value;
    if (corner.value) {
      drawn.value = cut([corner.value.x, corner.value.y, point.x, point.y], width, height);
      return;
    }
    if (stamp.value) {
      drawn.value = stamped(point);
      cursor.value = "crosshair";
      return;
    }
    const found = find(point, grasp);
    cursor.value = found?.handle ? cursorOf(found.handle) : found && found.index === held.value ? "move" : "crosshair";
  }

  function stamped({ x, y }: Point): Corners {
    const { width, height } = stamp.value!;
    return cut([x - width / 2, y - height / 2, x + width / 2, y + height / 2], size.value.width, size.value.height);
  }

  function press(point: Point, event: PointerEvent, grasp: number): void {
    from = point;
    reach = grasp;
    // With Shift a new box can be begun on top of another.
    const found = event.shiftKey || corner.value || stamp.value ? null : find(point, grasp);
    const box = found && corners.value[found.index];
    if (found && box && !event.ctrlKey && (found.handle || found.index === held.value)) grip = { ...found, box };
    else grip = null;
  }

  function drag(point: Point): void {
    if (from && corner.value && far(from, point)) corner.value = null;
    if (!from || corner.value || stamp.value) return hover(point, reach);
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
      if (start && !grip?.handle && !far(start, point, LEAST_MOVE)) return click(point, event);
      if (next[2] > next[0] && next[3] > next[1]) {
        change(boxes.value.map((box, place) => (place === index ? { ...box, corners: next } : box)));
      }
      return;
    }
    if (stamp.value) {
      add(stamped(point));
      return;
    }
    const box = drawn.value;
    if (corner.value) {
      if (box && box[2] - box[0] >= 1 && box[3] - box[1] >= 1) {
        corner.value = drawn.value = null;
        add(box);
      }
      return;
    }
    drawn.value = null;
    if (!box || !start || !far(start, point)) return click(point, event);
    if (box[2] - box[0] >= 1 && box[3] - box[1] >= 1) add(box);
  }

  /** Whether the pointer went so far that it is a drag. A drag draws anew, also where a click had set a corner. */
  function far(start: Point, end: Point, least = LEAST_DRAG): boolean {
    return Math.max(Math.abs(end.x - start.x), Math.abs(end.y - start.y)) >= least * reach;
  }

  /** A click chooses a box, takes an outline over, lets go, or sets the first corner of a new box. */
  function click(point: Point, event: PointerEvent): void {
    const under = event.shiftKey ? [] : hits(corners.value, point);
    // A second click takes the one below.
    const found = under[(under.indexOf(held.value) + 1) % under.length] ?? -1;
    if (found >= 0 && event.ctrlKey) {
      const rest = selection.value.filter((place) => place !== found);
      selection.value = rest.length < selection.value.length ? rest : [...rest, found];
      selected();
      return;
    }
    const ghost = event.shiftKey
      ? -1
      : hit(
          ghosts.value.map((each) => each.corners),
          point,
          0,
        );
    if (found < 0 && ghost >= 0) {
      change([...boxes.value, { ...ghosts.value[ghost]!, track: null }]);
      selection.value = [boxes.value.length - 1];
      return;
    }
    const had = selection.value.length > 0;
    selection.value = found >= 0 ? [found] : [];
    selected();
    if (found < 0 && (!had || event.shiftKey) && mayDraw()) corner.value = point;
  }

  function add(box: Corners): void {
    if (!mayDraw()) return;
    const classId = newClass();
    if (classId === null) return;
    change([
      ...boxes.value,
      { class_id: classId, corners: box, crowd: false, attributes: {}, track: null, origin: null },
    ]);
    selection.value = [boxes.value.length - 1];
    drew(boxes.value.length - 1);
  }

  /** Give up a box that was begun; says whether there was one. */
  function cancel(): boolean {
    const had = corner.value !== null;
    corner.value = null;
    drawn.value = null;
    return had;
  }

  return { drawn, preview, cursor, corner, hover, press, drag, release, cancel };
}
