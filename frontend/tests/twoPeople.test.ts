import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";

import type { ClipTrack } from "@/api/client";
import type { Track } from "@/views/clips/editing/trajectory";
import { mounted } from "./mounted";
import { randomFrom } from "./random";

type Change = { number: number; revision: number; track: Omit<Track, "number"> | null };

/** A server as it keeps the objects of a clip: all changes of a request, or none and all that is there. */
class Server {
  rows = new Map<number, ClipTrack>();
  /** The highest revision that a deleted object had. */
  gone = 0;

  save(changes: Change[]): unknown {
    const stale = changes.some(({ number, revision, track }) => {
      const row = this.rows.get(number);
      return (row?.revision ?? 0) !== revision && !(!row && !track);
    });
    if (stale)
      return {
        error: { detail: "no", current: { tracks: this.all() } },
        response: new Response(null, { status: 409 }),
      };
    for (const { number, track } of changes) {
      const before = this.rows.get(number)?.revision;
      if (track) this.rows.set(number, { ...track, number, revision: (before ?? this.gone) + 1 });
      else if (this.rows.delete(number)) this.gone = Math.max(this.gone, before!);
    }
    const saved = changes.flatMap(({ number }) => this.rows.get(number) ?? []);
    return { data: this.told(saved), response: new Response() };
  }
  all = (): ClipTrack[] => JSON.parse(JSON.stringify([...this.rows.values()])) as ClipTrack[];
  told = (tracks: ClipTrack[]) => ({ tracks: JSON.parse(JSON.stringify(tracks)) as ClipTrack[], time: null, timed: 0 });
}

/** Each person has a page of their own, with a history and drafts of their own. */
async function sitDown(server: Server, clip: number, next: () => number) {
  vi.resetModules();
  const { api } = await import("@/api/client");
  vi.spyOn(api, "POST").mockImplementation((async (_: string, { body }: { body: { changes: Change[] } }) => {
    // An answer is on its way for up to half a second.
    const answer = server.save(JSON.parse(JSON.stringify(body.changes)) as Change[]);
    await new Promise((resolve) => setTimeout(resolve, next() * 500));
    return answer;
  }) as never);
  vi.spyOn(api, "GET").mockImplementation((async () => ({
    data: server.told(server.all()),
    response: new Response(),
  })) as never);
  const { useTracks } = await import("@/views/clips/editing/tracks");
  const { useTrackSaving } = await import("@/views/clips/saving/trackSaving");
  const { made, leave } = mounted(() => {
    const tracks = useTracks(
      clip,
      () => saving.touch(),
      (clashes) => saving.disagree(clashes),
    );
    const saving = useTrackSaving(clip, {
      read: () => tracks.all.value,
      show: tracks.show,
      renumber: tracks.renumber,
    });
    return { tracks, saving };
  });
  made.tracks.show(made.saving.start(server.told(server.all())));
  return { ...made, leave };
}

/** Those that once failed, or at length as many as are asked for. */
const SEEDS = process.env.AVOCET_SOAK
  ? Array.from({ length: Number(process.env.AVOCET_SOAK) }, (_, place) => place + 1)
  : [1, 2, 3, 4, 65, 156];

describe("two people on one clip", () => {
  beforeEach(() => {
    vi.useFakeTimers();
    localStorage.clear();
  });
  afterEach(() => {
    vi.restoreAllMocks();
    vi.useRealTimers();
  });

  test.each(SEEDS)("nothing that either drew is lost, and both see the same in the end (%i)", async (seed) => {
    const next = randomFrom(seed);
    const server = new Server();
    const people = [await sitDown(server, 5, next), await sitDown(server, 6, next)];
    /** What was drawn, by a class of its own each, and who took it away again themselves. */
    const drawn = new Set<number>();
    const gone = new Set<number>();
    let tag = 100;
    /** The answer of a person who is asked: an object that is not in the version that stays was given up. */
    function answer(saving: (typeof people)[0]["saving"], which: "mine" | "theirs"): void {
      for (const { mine, theirs } of saving.conflict.value) {
        if (mine && theirs) expect(mine.class_id, "both versions are of one object").toBe(theirs.class_id);
        const [stays, goes] = which === "mine" ? [mine, theirs] : [theirs, mine];
        if (goes && goes.class_id !== stays?.class_id) gone.add(goes.class_id);
      }
      saving.settle(which);
    }
    for (let step = 0; step < 300; step += 1) {
      const { tracks, saving } = people[next() < 0.5 ? 0 : 1]!;
      if (saving.state.value === "conflict") answer(saving, next() < 0.5 ? "mine" : "theirs");
      const numbers = [...tracks.all.value.keys()];
      const some = numbers[Math.floor(next() * numbers.length)];
      const what = next();
      if (what < 0.35) {
        drawn.add(++tag);
        const number = tracks.freshNumber();
        const sets = [
          { frame: 0, corners: [0, 0, 9, 9] as [number, number, number, number], held: false, origin: "hand" },
        ];
        const track: Track = {
          number,
          uid: `b${tag}`,
          class_id: tag,
          spans: [[0, 9]],
          sets,
          attributes: [],
          unsure: [],
          model: "",
          standing: "kept",
        };
        tracks.change([[number, track]]);
      } else if (what < 0.75 && some !== undefined) {
        const track = tracks.all.value.get(some)!;
        const x = Math.floor(next() * 500);
        tracks.change([[some, { ...track, sets: [{ ...track.sets[0]!, corners: [x, 0, x + 9, 9] }] }]]);
      } else if (what < 0.9) {
        const before = new Set([...tracks.all.value.values()].map((each) => each.class_id));
        (next() < 0.7 ? tracks.undo : tracks.redo)();
        // Where it was asked whether to undo over somebody else's work the answer decides.
        if ((saving.state.value as string) === "conflict") answer(saving, next() < 0.5 ? "mine" : "theirs");
        const after = new Set([...tracks.all.value.values()].map((each) => each.class_id));
        for (const each of before) if (!after.has(each)) gone.add(each);
        for (const each of after) if (!before.has(each)) gone.delete(each);
      }
      await vi.advanceTimersByTimeAsync(next() * 400);
    }
    // Both put down the pen; whoever is asked keeps what is there.
    for (let round = 0; round < 60; round += 1) {
      for (const { saving } of people) if (saving.state.value === "conflict") answer(saving, "theirs");
      await vi.advanceTimersByTimeAsync(2000);
    }
    for (const { saving } of people) {
      const saved = saving.save();
      await vi.advanceTimersByTimeAsync(2000);
      await saved;
      await saving.renew();
    }
    await vi.advanceTimersByTimeAsync(3000);
    const kept = new Set(server.all().map((each) => each.class_id));
    expect([...drawn].filter((each) => !kept.has(each) && !gone.has(each))).toEqual([]);
    expect([...kept].filter((each) => !drawn.has(each))).toEqual([]);
    expect(kept.size).toBe(server.rows.size);
    for (const { tracks, saving, leave } of people) {
      expect(saving.state.value).toBe("saved");
      const shown = [...tracks.all.value.values()].map((each) => [
        each.number,
        each.class_id,
        each.sets[0]!.corners[0],
      ]);
      expect(shown.sort()).toEqual(
        server
          .all()
          .map((each) => [each.number, each.class_id, each.sets[0]!.corners[0]])
          .sort(),
      );
      leave();
    }
  });
});
