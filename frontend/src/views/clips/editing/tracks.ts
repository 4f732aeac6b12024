/** All objects of a clip: chosen, changed, remembered for undo, and handed to saving. */
import { computed, ref, shallowRef } from "vue";

import type { Track } from "@/views/clips/editing/trajectory";
import { firstFrame, sameTrack } from "@/views/clips/editing/trajectory";
import { numbered, type Step, useTrackHistory } from "@/views/clips/editing/history";
import { areTwo } from "@/views/clips/editing/uid";

/** An object that two versions are there of: mine and theirs. */
export interface Clash {
  number: number;
  mine: Track | null;
  theirs: Track | null;
}

/**
 * All objects of a clip. `touch` is told of every change; `ask` of what an undo or redo would do to objects that
 * somebody else has changed since.
 */
export function useTracks(clipId: number, touch: () => void, ask: (clashes: Clash[]) => void) {
  const all = shallowRef(new Map<number, Track>());
  const chosen = ref<number[]>([]);
  /** Objects that got another number, in turn. */
  const renumbered: [number, number][] = [];
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

  /** An object has another number from now on, as somebody else gave its own to one of theirs. */
  function renumber(object: Track, to: number): void {
    renumbered.push([object.number, to]);
    chosen.value = chosen.value.map((number) => (number === object.number ? to : number));
    history.renumber(object, to);
  }

  /** A step back, or forth again. Where an object is not as the step left it the person decides: all of it, or nothing. */
  function turn(step: Step | null): void {
    if (!step) return;
    let fresh = freshNumber() - 1;
    step = step.map((part) => {
      const object = (part.before ?? part.after)!;
      if (!areTwo(object, all.value.get(part.number))) return part;
      // Another object has got its number meanwhile.
      fresh += 1;
      renumber(object, fresh);
      return numbered(part, fresh);
    });
    const now = step.map(({ number }) => all.value.get(number) ?? null);
    apply(step);
    if (step.some(({ before, after }, place) => !sameTrack(before, now[place]!) && !sameTrack(after, now[place]!)))
      ask(step.map(({ number, after }, place) => ({ number, mine: after, theirs: now[place]! })));
  }

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
    renumber,
    renumbered,
    undo: () => turn(history.back()),
    redo: () => turn(history.forth()),
  };
}
