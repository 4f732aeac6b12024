/** What the stage draws while boxes are labelled: boxes, outlines to be taken over, and the one that is being drawn. */
import { computed, type ComputedRef, type Ref } from "vue";

import type { DrawnBox } from "@/api/client";
import type { Shape } from "@/stage/paint";
import { useProject } from "@/state/project";
import type { useBoxTool } from "@/views/labels/editing/boxTool";
import { looks } from "@/views/labels/looks/looks";
import type { useTightening } from "@/views/labels/editing/tightening";

export interface ShapesOptions {
  boxes: Ref<DrawnBox[]>;
  selection: Ref<number[]>;
  tighter: Pick<ReturnType<typeof useTightening>, "open" | "places">;
  reachable: Ref<Set<number>>;
  /** Boxes of the picture before. */
  previous: Ref<DrawnBox[]>;
  proposed: Ref<Shape[]>;
  show: { none: boolean; onlyChosen: boolean; ghosts: boolean };
  activeClass: Ref<number | null>;
  stamping: Ref<boolean>;
  /** Whether the selected box was just drawn: it has no handles until it is selected by hand. */
  fresh: () => boolean;
  tool: Pick<ReturnType<typeof useBoxTool>, "preview" | "drawn">;
}

export function useShapes(options: ShapesOptions): ComputedRef<Shape[]> {
  const { boxes, selection, tighter, reachable, previous, proposed, show, activeClass, stamping, fresh, tool } =
    options;
  const store = useProject();

  function badge(classId: number): string | undefined {
    const found = store.classById.get(classId);
    if (looks.value.badge === "none") return undefined;
    return looks.value.badge === "name" ? (found?.name ?? "?") : String(found?.position ?? "?");
  }

  return computed(() => {
    const chosen = new Set(selection.value);
    const all: Shape[] = boxes.value.flatMap((box, index) => {
      if (show.none || (show.onlyChosen && !chosen.has(index))) return [];
      return {
        corners: tool.preview.value?.index === index ? tool.preview.value.corners : box.corners,
        colour: store.classById.get(box.class_id)?.colour ?? "#A9B8C9",
        badge: badge(box.class_id),
        selected: chosen.has(index),
        gripped: index === selection.value.at(-1) && !fresh(),
        faint: !reachable.value.has(index) || tighter.places.value.has(index),
      };
    });
    for (const corners of show.none ? [] : tighter.open.value) all.push({ corners, colour: "#F8F5EC", ghost: true });
    if (!show.none && !show.onlyChosen) all.push(...proposed.value);
    for (const box of show.ghosts ? previous.value : []) {
      all.push({ corners: box.corners, colour: store.classById.get(box.class_id)?.colour ?? "#A9B8C9", ghost: true });
    }
    if (tool.drawn.value) {
      const colour = store.classById.get(activeClass.value ?? 0)?.colour ?? "#F8F5EC";
      all.push({ corners: tool.drawn.value, colour, ghost: stamping.value });
    }
    return all;
  });
}
