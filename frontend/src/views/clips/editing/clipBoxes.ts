/** The boxes of one frame of a clip, as the box tool has them, and what its changes mean for the objects. */
import { computed, type Ref } from "vue";

import type { DrawnBox } from "@/api/client";
import { useBoxTool } from "@/views/labels/editing/boxTool";
import type { Corners, Point } from "@/stage/geometry";
import { cut, moved } from "@/stage/geometry";
import type { Shape } from "@/stage/paint";
import { useProject } from "@/state/project";
import { boxAt, isInSight, setBox, type Track } from "@/views/clips/editing/trajectory";
import { certainty } from "@/views/clips/editing/strips";
import type { useTracks } from "@/views/clips/editing/tracks";
import { freshUid } from "@/views/clips/editing/uid";

/** Below it a box is shown as one to be looked at. */
const SURE = 0.6;

export interface ClipBoxesOptions {
  tracks: ReturnType<typeof useTracks>;
  frame: Ref<number>;
  size: { width: number; height: number };
  activeClass: Ref<number | null>;
  newClass: () => number | null;
  /** Number of the object that was just drawn, until it is selected by hand; -1 if none. */
  drawn: Ref<number>;
}

export function useClipBoxes({ tracks, frame, size, activeClass, newClass, drawn }: ClipBoxesOptions) {
  const store = useProject();

  /** In sight here, and the selected ones also where they are not: to be set there. */
  const here = computed(() => {
    const chosen = new Set(tracks.chosen.value);
    return [...tracks.all.value.values()].filter(
      (each) => each.standing !== "refused" && (chosen.has(each.number) || isInSight(each, frame.value)),
    );
  });
  const boxes = computed<DrawnBox[]>(() =>
    here.value.map((each) => ({
      class_id: each.class_id,
      corners: boxAt(each, frame.value),
      crowd: false,
      attributes: {},
      track: each.number,
      origin: null,
    })),
  );
  const selection = computed({
    get: () => tracks.chosen.value.map((number) => here.value.findIndex((each) => each.number === number)),
    set: (places) => (tracks.chosen.value = places.flatMap((place) => here.value[place]?.number ?? [])),
  });

  function drawnOn(track: Track, corners: Corners): Track {
    const set = setBox(track, frame.value, cut(corners, size.width, size.height));
    return track.standing === "proposed" ? { ...set, standing: "kept" } : set;
  }

  function change(next: DrawnBox[]): void {
    const made: [number, Track][] = [];
    next.forEach((box, place) => {
      const track = here.value[place];
      const before = boxes.value[place];
      if (track && before && box.corners !== before.corners) made.push([track.number, drawnOn(track, box.corners)]);
    });
    let number = tracks.freshNumber();
    const added = next.slice(here.value.length).map((box): [number, Track] => {
      const track: Track = {
        number,
        uid: freshUid(),
        class_id: box.class_id,
        spans: [[frame.value, frame.value]],
        sets: [{ frame: frame.value, corners: box.corners, held: false, origin: "hand" }],
        attributes: [],
        unsure: [],
        model: "",
        standing: "kept",
      };
      return [number++, track];
    });
    tracks.change([...made, ...added]);
    if (!added.length) return;
    tracks.chosen.value = added.map(([each]) => each);
    drawn.value = tracks.chosen.value.at(-1)!;
  }

  const isFresh = (number: number): boolean => number === drawn.value && tracks.chosen.value.length === 1;
  const tool = useBoxTool({
    boxes,
    selection,
    reachable: computed(() => new Set(here.value.map((_, place) => place))),
    ghosts: computed(() => []),
    size: computed(() => size),
    stamp: computed(() => null),
    newClass,
    change,
    fresh: () => here.value.findIndex((each) => isFresh(each.number)),
    selected: () => (drawn.value = -1),
    mayDraw: () => true,
    drew: () => undefined,
  });

  const shapes = computed<Shape[]>(() => {
    const chosen = new Set(tracks.chosen.value);
    const preview = tool.preview.value;
    const all: Shape[] = here.value.map((track, place) => {
      const found = store.classById.get(track.class_id);
      const selected = chosen.has(track.number);
      const seen = isInSight(track, frame.value);
      const sure = certainty(track, frame.value) >= SURE;
      return {
        corners: preview?.index === place ? preview.corners : boxes.value[place]!.corners,
        colour: found?.colour ?? "#A9B8C9",
        badge: `${found?.position ?? "?"}${selected ? `  ${found?.name ?? ""} ${track.number}` : ""}${seen ? "" : "  out of sight"}${sure ? "" : "  ?"}`,
        selected,
        gripped: track.number === tracks.chosen.value.at(-1) && !isFresh(track.number),
        ghost: !seen || track.standing === "proposed",
        faint: !seen,
      };
    });
    if (tool.drawn.value) {
      const colour = store.classById.get(activeClass.value ?? 0)?.colour ?? "#F8F5EC";
      all.push({ corners: tool.drawn.value, colour });
    }
    return all;
  });

  /** The same change to the boxes of all selected objects, here. */
  function turn(how: (corners: Corners) => Corners): boolean {
    return tracks.each((track) => drawnOn(track, how(boxAt(track, frame.value))));
  }

  return {
    here,
    shapes,
    tool,
    turn,
    nudge: (dx: number, dy: number) => turn((box) => moved(box, dx, dy, size.width, size.height)),
    grow: (dx: number, dy: number) =>
      turn(([x1, y1, x2, y2]) => [x1, y1, Math.max(x1 + 1, x2 + dx), Math.max(y1 + 1, y2 + dy)]),
    /** A box without the pointer's help. */
    put(at: Point, side: number): void {
      const classId = newClass();
      if (classId === null) return;
      const corners = moved([0, 0, side, side], at.x - side / 2, at.y - side / 2, size.width, size.height);
      change([...boxes.value, { class_id: classId, corners, crowd: false, attributes: {}, track: null, origin: null }]);
    },
  };
}
