/** All objects of a clip: chosen, changed, remembered for undo, and handed to saving. */
import { computed, ref, shallowRef } from "vue";

import type { Track } from "@/views/clips/editing/trajectory";
import { firstFrame } from "@/views/clips/editing/trajectory";
import { type Step, useTrackHistory } from "@/views/clips/editing/history";

export function useTracks(clipId: number, touch: () => void) {
  const all = shallowRef(new Map<number, Track>());
  const chosen = ref<number[]>([]);
  const history = useTrackHistory(clipId);

  const kept = computed(() => [...all.value.values()].filter((each) => each.standing === "kept"));
  const proposed = computed(() =>
    [...all.value.values()]
      .filter((each) => each.standing === "proposed")
      .sort((a, b) => firstFrame(a) - firstFrame(b) || a.number - b.number),
  );
  const refused = computed(() => [...all.value.values()].filter((each) => each.standing === "refused"));
  const selected = computed(() =>
    chosen.value.flatMap((number) => {
      const track = all.value.get(number);
      return track && track.standing !== "refused" ? [track] : [];
    }),
  );
  const last = computed(() => selected.value.at(-1));

  function show(tracks: readonly Track[]): void {
    all.value = new Map(tracks.map((each) => [each.number, each]));
    chosen.value = chosen.value.filter((number) => all.value.has(number));
  }

  function apply(step: Step): void {
    const next = new Map(all.value);
    for (const { number, after } of step) {
      if (after) next.set(number, after);
      else next.delete(number);
    }
    all.value = next;
    chosen.value = chosen.value.filter((number) => next.has(number));
    touch();
  }

  /** Change objects; those whose new version is null are removed. */
  function change(made: Iterable<[number, Track | null]>): void {
    const step = [...made]
      .map(([number, after]) => ({ number, before: all.value.get(number) ?? null, after }))
      .filter(({ before, after }) => before !== after);
    if (!step.length) return;
    apply(step);
    history.remember(step);
  }

  /** The same change to all that are chosen; null leaves one as it is. */
  function each(turn: (track: Track) => Track | null): boolean {
    const made = selected.value.flatMap((track): [number, Track][] => {
      const after = turn(track);
      return after && after !== track ? [[track.number, after]] : [];
    });
    change(made);
    return made.length > 0;
  }

  function remove(): void {
    // What a model proposed is refused rather than forgotten, so that it does not come back.
    change(selected.value.map((track) => [track.number, gone(track)]));
    chosen.value = [];
  }

  function gone(track: Track): Track | null {
    return track.model ? { ...track, standing: "refused" } : null;
  }

  const stand = (tracks: readonly Track[], standing: Track["standing"]): void =>
    change(tracks.map((track) => [track.number, { ...track, standing }]));

  function freshNumber(): number {
    return Math.max(0, ...all.value.keys()) + 1;
  }

  return {
    all,
    kept,
    proposed,
    refused,
    chosen,
    selected,
    last,
    history,
    show,
    apply,
    change,
    each,
    remove,
    stand,
    freshNumber,
    undo: () => {
      const step = history.back();
      if (step) apply(step);
    },
    redo: () => {
      const step = history.forth();
      if (step) apply(step);
    },
  };
}
