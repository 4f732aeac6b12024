/** Boxes fitted to what they hold: shown as outlines first, and taken over by the same key again. */
import { computed, type Ref, shallowRef } from "vue";

import { api, type DrawnBox, take } from "@/api/client";
import { complain, say } from "@/state/notes";
import type { Corners } from "@/stage/geometry";

/** Where the edges of boxes would lie, for those in which one would move. */
export async function tighterOf(pictureId: number, some: DrawnBox[]): Promise<Map<DrawnBox, Corners>> {
  const found = await take(
    api.POST("/api/v1/pictures/{picture_id}/tightened", {
      params: { path: { picture_id: pictureId } },
      body: { boxes: some.map((box) => box.corners) },
    }),
  );
  return new Map(
    some.flatMap((box, index): [DrawnBox, Corners][] => {
      const corners = found.boxes[index] as Corners;
      return corners.join() === box.corners.join() ? [] : [[box, corners]];
    }),
  );
}

/** Boxes with new edges, where nobody changed them since these were found; null where none has. */
export function tightened(boxes: DrawnBox[], found: Map<DrawnBox, Corners>): DrawnBox[] | null {
  const next = boxes.map((box) => (found.has(box) ? { ...box, corners: found.get(box)! } : box));
  return next.some((box, place) => box !== boxes[place]) ? next : null;
}

export function useTightening(pictureId: number, boxes: Ref<DrawnBox[]>, change: (next: DrawnBox[]) => void) {
  const found = shallowRef(new Map<DrawnBox, Corners>());
  let asked = 0;

  /** What would become of which box; a box that was changed meanwhile is none of them. */
  const open = computed(() => boxes.value.flatMap((box) => (found.value.has(box) ? [found.value.get(box)!] : [])));
  const places = computed(() => new Set(boxes.value.flatMap((box, place) => (found.value.has(box) ? [place] : []))));

  /** Show what would become of boxes, all where none is named; take over what is shown already. */
  async function press(wanted: number[]): Promise<void> {
    if (open.value.length) {
      const next = tightened(boxes.value, found.value);
      drop();
      if (next) change(next);
      return;
    }
    const some = (wanted.length ? wanted : boxes.value.map((_, place) => place)).map((place) => boxes.value[place]!);
    if (!some.length) return;
    const mine = ++asked;
    try {
      const tighter = await tighterOf(pictureId, some);
      if (mine !== asked) return;
      found.value = tighter;
      if (!open.value.length) say(some.length === 1 ? "Its edges stay as they are" : "All edges stay as they are");
    } catch (error) {
      complain(error);
    }
  }

  /** Leave boxes as they are; returns whether anything was shown. */
  function drop(): boolean {
    asked += 1;
    const shown = open.value.length > 0;
    found.value = new Map();
    return shown;
  }

  return { open, places, press, drop };
}
