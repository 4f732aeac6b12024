/** The boxes of one picture and everything that can be done to them; every change is remembered. */
import { computed, type Ref, ref, shallowRef } from "vue";

import type { Labels } from "@/api/client";
import { count } from "@/parts/format";
import { cut, moved, type Point } from "@/stage/geometry";
import { complain, say } from "@/state/notes";
import type { DrawnBox } from "@/api/client";
import { drawnTwice } from "@/views/labels/saving/merging";
import { useHistory, type Version } from "@/views/labels/editing/history";
import { tightened, tighterOf } from "@/views/labels/editing/tightening";

/** Boxes copied by key, for any picture of the sitting. */
const clipboard = ref<DrawnBox[]>([]);

export function useLabelling(
  projectId: number,
  pictureId: number,
  size: Ref<{ width: number; height: number }>,
  touch: () => void,
) {
  const boxes = shallowRef<DrawnBox[]>([]);
  const state = ref<Labels["state"]>("unlabelled");
  const selection = ref<number[]>([]);
  const history = useHistory(projectId);
  const last = computed(() => selection.value.at(-1) ?? -1);
  const chosen = computed(() => boxes.value[last.value]);

  function version(): Version {
    return { boxes: boxes.value, state: state.value };
  }

  function show(found: Version): void {
    boxes.value = found.boxes;
    state.value = found.state;
    selection.value = [];
  }

  /**
   * What the server made of what was sent, where nobody changed it since; gives the classes that it saved others for,
   * as of one that was merged meanwhile.
   */
  function saved(sent: Version, labels: Labels): [number, number][] {
    const turned = sent.boxes.flatMap((box, place): [number, number][] => {
      const got = labels.boxes[place]?.class_id ?? box.class_id;
      return got === box.class_id ? [] : [[box.class_id, got]];
    });
    if (boxes.value === sent.boxes && state.value === sent.state) {
      state.value = labels.state;
      const became = new Map(turned);
      if (turned.length)
        boxes.value = boxes.value.map((box) => ({ ...box, class_id: became.get(box.class_id) ?? box.class_id }));
    }
    return turned;
  }

  /** Change boxes, state or both. */
  function change(next: DrawnBox[], wanted?: Labels["state"]): void {
    const before = JSON.parse(JSON.stringify(version())) as Version;
    apply({ boxes: next, state: wanted ?? fitting(next, state.value) });
    history.remember(pictureId, before, version());
  }

  function apply(next: Version): void {
    boxes.value = next.boxes;
    state.value = next.state;
    selection.value = selection.value.filter((place) => place < next.boxes.length);
    touch();
  }

  function fitting(next: DrawnBox[], now: Labels["state"]): Labels["state"] {
    if (next.length && (now === "unlabelled" || now === "empty")) return "in_progress";
    return !next.length && now === "in_progress" ? "unlabelled" : now;
  }

  /** The same change to every selected box. */
  function each(turn: (box: DrawnBox) => DrawnBox): boolean {
    if (!selection.value.length) return false;
    const places = new Set(selection.value);
    change(boxes.value.map((box, place) => (places.has(place) ? turn(box) : box)));
    return true;
  }

  function nudge(dx: number, dy: number): boolean {
    const { width, height } = size.value;
    return each((box) => ({ ...box, corners: cut(moved(box.corners, dx, dy, width, height), width, height) }));
  }

  function grow(dx: number, dy: number): boolean {
    const { width, height } = size.value;
    return each((box) => {
      const [x1, y1, x2, y2] = box.corners;
      return { ...box, corners: cut([x1, y1, Math.max(x1 + 1, x2 + dx), Math.max(y1 + 1, y2 + dy)], width, height) };
    });
  }

  function remove(): void {
    const gone = new Set(selection.value);
    if (!gone.size) return;
    selection.value = [];
    change(boxes.value.filter((_, place) => !gone.has(place)));
  }

  function setClass(classId: number): void {
    if (selection.value.some((place) => boxes.value[place]?.class_id !== classId)) {
      each((box) => ({ ...box, class_id: classId }));
    }
  }

  function setAttribute(name: string, value: unknown): void {
    each((box) => {
      const attributes = { ...box.attributes, [name]: value };
      if (value === false || value === null || value === "" || value === undefined) delete attributes[name];
      return { ...box, attributes };
    });
  }

  function duplicate(): void {
    const { width, height } = size.value;
    const copies = selection.value.map((place) => {
      const box = boxes.value[place]!;
      return { ...box, corners: moved(box.corners, 10, 10, width, height), track: null, origin: "hand" };
    });
    add(copies);
  }

  /** Add boxes and select them. */
  function add(some: DrawnBox[]): void {
    if (!some.length) return;
    const first = boxes.value.length;
    change([...boxes.value, ...some]);
    selection.value = some.map((_, index) => first + index);
  }

  /** Add a box of a size with a point as its middle. */
  function put(at: Point, classId: number, of: { width: number; height: number }): void {
    const { width, height } = size.value;
    const corners = moved([0, 0, of.width, of.height], at.x - of.width / 2, at.y - of.height / 2, width, height);
    add([
      {
        class_id: classId,
        corners: cut(corners, width, height),
        crowd: false,
        attributes: {},
        track: null,
        origin: null,
      },
    ]);
  }

  function copy(): boolean {
    if (!selection.value.length) return false;
    clipboard.value = selection.value.map((place) => JSON.parse(JSON.stringify(boxes.value[place])) as DrawnBox);
    return true;
  }

  function paste(): boolean {
    const { width, height } = size.value;
    takeOver(clipboard.value.map((box) => ({ ...box, corners: cut(box.corners, width, height) })));
    return clipboard.value.length > 0;
  }

  /** Add boxes of another picture: none twice, and none that has no place here; what is left out is said. */
  function takeOver(some: DrawnBox[]): void {
    const { width, height } = size.value;
    const fitting = some.filter(
      ({ corners: [x1, y1, x2, y2] }) => x1 >= 0 && y1 >= 0 && x2 <= width && y2 <= height && x2 > x1 && y2 > y1,
    );
    const fresh = fitting.filter((box) => !boxes.value.some((here) => drawnTwice(here, box)));
    add(fresh.map((box) => ({ ...box, track: null, origin: "hand" })));
    const left = [
      some.length > fitting.length ? `${count(some.length - fitting.length, "box does", "boxes do")} not fit here` : "",
      fitting.length > fresh.length ? `${count(fitting.length - fresh.length, "is", "are")} here already` : "",
    ].filter(Boolean);
    if (left.length) say(left.join("; "));
  }

  /** Fit boxes to what they hold at once; all of them where none is named. */
  async function tighten(places: number[]): Promise<void> {
    const wanted = places.length ? places : boxes.value.map((_, place) => place);
    if (!wanted.length) return;
    try {
      // Boxes that were changed while the answer was on its way keep that change.
      const found = await tighterOf(
        pictureId,
        wanted.map((place) => boxes.value[place]!),
      );
      const next = tightened(boxes.value, found);
      if (next) change(next);
    } catch (error) {
      complain(error);
    }
  }

  return {
    boxes,
    state,
    selection,
    last,
    chosen,
    history,
    version,
    show,
    saved,
    change,
    apply,
    nudge,
    grow,
    remove,
    setClass,
    setAttribute,
    duplicate,
    add,
    put,
    copy,
    paste,
    takeOver,
    tighten,
  };
}
