/** One object of a clip: where it is on each frame, and everything that can be done to it. Nothing here changes a track; each gives a new one. */
import type { CarriedBox, ClipTrack, SetBox } from "@/api/client";
import type { Corners } from "@/stage/geometry";
import { freshUid } from "@/views/clips/editing/uid";

/** As the server keeps it, but for the revision, which saving looks after. */
export type Track = Omit<ClipTrack, "revision">;

type Span = [number, number];

/** Place of the last set box at or before a frame; -1 where all come later. */
function before(sets: readonly SetBox[], frame: number): number {
  let [low, high] = [-1, sets.length - 1];
  while (low < high) {
    const middle = (low + high + 1) >> 1;
    if (sets[middle]!.frame <= frame) low = middle;
    else high = middle - 1;
  }
  return low;
}

/** The box on a frame, in sight or not: between set boxes each corner moves on evenly, unless one is held. */
export function boxAt(track: Track, frame: number): Corners {
  const { sets } = track;
  const place = before(sets, frame);
  const here = sets[Math.max(place, 0)]!;
  const next = sets[place + 1];
  if (place < 0 || !next || here.held || here.frame === frame) return here.corners;
  const share = (frame - here.frame) / (next.frame - here.frame);
  return here.corners.map((value, index) => value * (1 - share) + next.corners[index]! * share) as Corners;
}

export function spanAt(track: Track, frame: number): Span | undefined {
  return track.spans.find(([first, last]) => first <= frame && frame <= last);
}

export function isInSight(track: Track, frame: number): boolean {
  return spanAt(track, frame) !== undefined;
}

export function setAt(track: Track, frame: number): SetBox | undefined {
  const found = track.sets[before(track.sets, frame)];
  return found?.frame === frame ? found : undefined;
}

export const firstFrame = (track: Track): number => track.spans[0]![0];
export const lastFrame = (track: Track): number => track.spans.at(-1)![1];

function said(values: Record<string, unknown>): string {
  const kept = Object.entries(values).filter(([, value]) => value !== null && value !== false && value !== "");
  return JSON.stringify(kept.sort(([a], [b]) => (a < b ? -1 : 1)));
}

/** Whether two versions of an object say the same, in whatever order; places to look at do not count. */
export function sameTrack(some: Track | null, other: Track | null): boolean {
  if (some === other) return true;
  if (!some || !other) return false;
  const plain = ({ class_id, model, spans, standing, sets, attributes }: Track): string =>
    JSON.stringify([
      [class_id, model, standing, spans],
      sets.map(({ frame, corners, held, origin }) => [frame, corners, Boolean(held), origin || "hand"]),
      attributes.map(({ frame, values }) => [frame, said(values)]),
    ]);
  return plain(some) === plain(other);
}

/** Spans in order, those that touch or overlap made one. */
export function tidied(spans: readonly Span[]): Span[] {
  const found: Span[] = [];
  for (const [first, last] of [...spans].sort((a, b) => a[0] - b[0])) {
    const open = found.at(-1);
    if (open && first <= open[1] + 1) open[1] = Math.max(open[1], last);
    else found.push([first, last]);
  }
  return found;
}

function withSet(sets: readonly SetBox[], made: SetBox): SetBox[] {
  return [...sets.filter((each) => each.frame !== made.frame), made].sort((a, b) => a.frame - b.frame);
}

/** A person sets the box on a frame; the object is then in sight there, and from its nearest sight up to there. */
export function setBox(track: Track, frame: number, corners: Corners): Track {
  const held = setAt(track, frame)?.held ?? false;
  const sets = withSet(track.sets, { frame, corners, held, origin: "hand" });
  const unsure = track.unsure.filter((each) => each !== frame);
  return { ...track, sets, unsure, spans: reaching(track.spans, frame) };
}

function reaching(spans: readonly Span[], frame: number): Span[] {
  if (spans.some(([first, last]) => first <= frame && frame <= last)) return [...spans];
  const [begin, end] = [spans[0]![0], spans.at(-1)![1]];
  if (frame > end) return tidied([...spans, [end, frame]]);
  if (frame < begin) return tidied([...spans, [frame, begin]]);
  return tidied([...spans, [frame, frame]]);
}

/** Take the set box of a frame away; null where it is the only one. */
export function unset(track: Track, frame: number): Track | null {
  const sets = track.sets.filter((each) => each.frame !== frame);
  return sets.length && sets.length < track.sets.length ? { ...track, sets } : null;
}

/** The sight that holds this frame, or the next one, begins here. */
export function beginHere(track: Track, frame: number): Track {
  const at = track.spans.findIndex(([, last]) => last >= frame);
  if (at < 0) return { ...track, spans: tidied([...track.spans, [frame, frame]]) };
  const spans = track.spans.map(([first, last], place): Span => (place === at ? [frame, last] : [first, last]));
  return { ...track, spans: tidied(spans) };
}

/** The sight that holds this frame, or the one before, ends here. */
export function endHere(track: Track, frame: number): Track {
  const at = track.spans.findLastIndex(([first]) => first <= frame);
  if (at < 0) return { ...track, spans: tidied([[frame, frame], ...track.spans]) };
  const spans = track.spans.map(([first, last], place): Span => (place === at ? [first, frame] : [first, last]));
  return { ...track, spans: tidied(spans) };
}

/** An end of one sight is put on another frame, but not past its other end. */
export function withEnd(track: Track, span: number, which: 0 | 1, frame: number): Track {
  const spans = track.spans.map((each, place): Span => {
    if (place !== span) return each;
    return which ? [each[0], Math.max(frame, each[0])] : [Math.min(frame, each[1]), each[1]];
  });
  return { ...track, spans: tidied(spans) };
}

/** Out of sight from here until its next set box; null where it would never be seen. */
export function hideFrom(track: Track, frame: number): Track | null {
  const span = spanAt(track, frame);
  if (!span) return null;
  const next = track.sets.find((each) => each.frame > frame && each.frame <= span[1]);
  const spans = track.spans.filter((each) => each !== span);
  if (span[0] < frame) spans.push([span[0], frame - 1]);
  if (next) spans.push([next.frame, span[1]]);
  return spans.length ? { ...track, spans: tidied(spans) } : null;
}

/** Back in sight from here, up to where it is seen again or to its next set box. */
export function showFrom(track: Track, frame: number): Track | null {
  if (isInSight(track, frame)) return null;
  const again = track.spans.find(([first]) => first > frame)?.[0];
  const set = track.sets.find((each) => each.frame > frame)?.frame;
  return { ...track, spans: tidied([...track.spans, [frame, again ?? set ?? frame]]) };
}

/** Cut in two at a frame, where both have a box; null where one would have no sight. */
export function partAt(track: Track, frame: number, number: number): [Track, Track] | null {
  const earlier = track.spans.flatMap(([first, last]): Span[] =>
    first < frame ? [[first, Math.min(last, frame - 1)]] : [],
  );
  const later = track.spans.flatMap(([first, last]): Span[] => (last >= frame ? [[Math.max(first, frame), last]] : []));
  if (!earlier.length || !later.length) return null;
  const edge = (at: number): SetBox => {
    const { held, origin } = track.sets[Math.max(0, before(track.sets, at))]!;
    return { frame: at, corners: boxAt(track, at), held, origin };
  };
  const seam = earlier.at(-1)![1];
  const ends = setAt(track, seam) ?? edge(seam);
  const begins = setAt(track, frame) ?? edge(later[0]![0]);
  return [
    {
      ...track,
      spans: earlier,
      sets: withSet(
        track.sets.filter((each) => each.frame < frame),
        ends,
      ),
      unsure: track.unsure.filter((each) => each < frame),
      attributes: track.attributes.filter((each) => each.frame < frame),
    },
    {
      ...track,
      number,
      uid: freshUid(),
      spans: later,
      sets: withSet(
        track.sets.filter((each) => each.frame >= frame),
        begins,
      ),
      unsure: track.unsure.filter((each) => each >= frame),
      attributes: [
        { frame: later[0]![0], values: attributesAt(track, frame) },
        ...track.attributes.filter((each) => each.frame > frame),
      ].filter((each) => each.frame !== later[0]![0] || Object.keys(each.values).length),
    },
  ];
}

/** Two tracks that are one object: the one that is seen first stays, with its class. */
export function joined(one: Track, other: Track): Track {
  const [first, second] = firstFrame(one) <= firstFrame(other) ? [one, other] : [other, one];
  const own = new Set(first.sets.map((each) => each.frame));
  const start = firstFrame(second);
  return {
    ...first,
    spans: tidied([...first.spans, ...second.spans]),
    sets: [...first.sets, ...second.sets.filter((each) => !own.has(each.frame))].sort((a, b) => a.frame - b.frame),
    unsure: [...new Set([...first.unsure, ...second.unsure])].sort((a, b) => a - b),
    attributes: [
      ...first.attributes.filter((each) => each.frame < start),
      ...(second.attributes.length ? second.attributes : [{ frame: start, values: attributesAt(first, start) }]),
    ].filter((each, place) => place || Object.keys(each.values).length),
  };
}

/** What following has found takes the place of what was there between its first and its last frame. */
export function withFollowed(track: Track, found: CarriedBox, frame: number): Track {
  const seen = found.spans.flat();
  const [low, high] = [Math.min(frame, ...seen), Math.max(frame, ...seen)];
  const outside = ({ frame: at }: { frame: number }): boolean => at < low || at > high;
  const kept = new Set(track.sets.filter((each) => each.origin === "hand").map((each) => each.frame));
  const made = found.frames
    .map((at, place) => ({ frame: at, corners: found.boxes[place]!, held: false, origin: "carried" }))
    .filter((each) => !kept.has(each.frame));
  const spans: Span[] = track.spans.flatMap(([first, last]): Span[] => [
    ...(first < low ? ([[first, Math.min(last, low - 1)]] as Span[]) : []),
    ...(last > high ? ([[Math.max(first, high + 1), last]] as Span[]) : []),
  ]);
  return {
    ...track,
    sets: [...track.sets.filter((each) => outside(each) || kept.has(each.frame)), ...made].sort(
      (a, b) => a.frame - b.frame,
    ),
    spans: tidied([...spans, ...found.spans]),
    unsure: [...track.unsure.filter((at) => at < low || at > high), ...found.unsure].sort((a, b) => a - b),
  };
}

export function attributesAt(track: Track, frame: number): Record<string, unknown> {
  return track.attributes.findLast((each) => each.frame <= frame)?.values ?? {};
}

/** An attribute of the whole track, or from a frame on. */
export function withAttribute(track: Track, frame: number, name: string, value: unknown, whole: boolean): Track {
  const put = (values: Record<string, unknown>): Record<string, unknown> => {
    const next = { ...values, [name]: value };
    if (value === false || value === null || value === "" || value === undefined) delete next[name];
    return next;
  };
  const start = whole ? 0 : frame;
  const values = put(attributesAt(track, start));
  const attributes = [
    ...track.attributes.filter((each) => each.frame < start),
    { frame: start, values },
    ...track.attributes
      .filter((each) => each.frame > start)
      .map((each) => ({ frame: each.frame, values: put(each.values) })),
  ];
  // What says the same as before it says nothing.
  const telling = attributes.filter(
    (each, place) => JSON.stringify(each.values) !== JSON.stringify(attributes[place - 1]?.values ?? {}),
  );
  return { ...track, attributes: telling };
}

/** Frames on which something was set, begins, ends or is unsure, in order. */
export function places(tracks: readonly Track[]): number[] {
  const found = new Set<number>();
  for (const track of tracks) {
    for (const each of track.sets) found.add(each.frame);
    for (const [first, last] of track.spans) found.add(first).add(last);
    for (const each of track.unsure) found.add(each);
  }
  return [...found].sort((a, b) => a - b);
}

export function sightLength(track: Track): number {
  return track.spans.reduce((sum, [first, last]) => sum + last - first + 1, 0);
}
