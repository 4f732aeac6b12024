import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";

import { api, type ClipTrack } from "@/api/client";
import { useTracks } from "@/views/clips/editing/tracks";
import type { Track } from "@/views/clips/editing/trajectory";
import { draftOfClip, useTrackSaving } from "@/views/clips/saving/trackSaving";
import { mounted } from "./mounted";

const track = (number: number, x = 0, changes: Partial<Track> = {}): Track => ({
  number,
  uid: `a${number}`,
  class_id: 1,
  spans: [[0, 9]],
  sets: [{ frame: 0, corners: [x, 0, x + 9, 9], held: false, origin: "hand" }],
  attributes: [],
  unsure: [],
  model: "",
  standing: "kept",
  ...changes,
});
const stored = (each: Track, revision: number): ClipTrack => ({ ...each, revision });
const answer = (...tracks: ClipTrack[]) => ({ data: { tracks, time: null, timed: 0 }, response: new Response() });
const refusal = (status: number, current: unknown = null) => ({
  error: { detail: "no", current },
  response: new Response(null, { status }),
});

describe("saving objects by itself", () => {
  let post: ReturnType<typeof vi.spyOn>;
  let tracks: ReturnType<typeof useTracks>;
  let saving: ReturnType<typeof useTrackSaving>;
  let leave: () => void;

  function begin(...there: ClipTrack[]): void {
    let made!: { tracks: typeof tracks; saving: typeof saving };
    ({ made, leave } = mounted(() => {
      const own = useTracks(
        5,
        () => saving.touch(),
        (clashes) => saving.disagree(clashes),
      );
      const saves = useTrackSaving(5, { read: () => own.all.value, show: own.show, renumber: own.renumber });
      return { tracks: own, saving: saves };
    }));
    ({ tracks, saving } = made);
    tracks.show(saving.start({ tracks: there, time: null, timed: 0 }));
  }
  const sent = (call = -1): { number: number; revision: number; track: unknown }[] =>
    (post.mock.calls.at(call) as [string, { body: { changes: never[] } }])[1].body.changes;
  const shown = (): Record<number, number> =>
    Object.fromEntries([...tracks.all.value.values()].map((each) => [each.number, each.sets[0]!.corners[0]]));

  beforeEach(() => {
    vi.useFakeTimers();
    localStorage.clear();
    post = vi.spyOn(api, "POST");
  });
  afterEach(() => {
    leave();
    vi.restoreAllMocks();
    vi.useRealTimers();
  });

  test("only what changed goes, with the revision that it was changed from", async () => {
    begin(stored(track(1), 3), stored(track(2), 7));
    post.mockResolvedValue(answer(stored(track(2, 50), 8)) as never);
    tracks.change([[2, track(2, 50)]]);
    expect(saving.state.value).toBe("waiting");
    await vi.advanceTimersByTimeAsync(400);
    expect(sent().map((each) => [each.number, each.revision])).toEqual([[2, 7]]);
    expect([saving.state.value, draftOfClip(5)]).toEqual(["saved", null]);
    post.mockResolvedValue(answer() as never);
    tracks.change([[2, null]]);
    await vi.advanceTimersByTimeAsync(400);
    expect(sent()).toEqual([{ number: 2, revision: 8, track: null }]);
  });

  test("undone and done again, each is saved", async () => {
    begin(stored(track(1), 1));
    post.mockImplementation((_: unknown, { body }: never) => {
      const [change] = (body as { changes: { number: number; revision: number; track: Track }[] }).changes;
      return Promise.resolve(answer(stored({ ...change!.track, number: 1 }, change!.revision + 1))) as never;
    });
    tracks.change([[1, track(1, 20)]]);
    await vi.advanceTimersByTimeAsync(400);
    tracks.undo();
    await vi.advanceTimersByTimeAsync(400);
    expect([shown(), sent()[0]!.revision]).toEqual([{ 1: 0 }, 2]);
    tracks.redo();
    await vi.advanceTimersByTimeAsync(400);
    expect([shown(), sent()[0]!.revision]).toEqual([{ 1: 20 }, 3]);
  });

  test("the time worked goes with it, and again where it did not arrive", async () => {
    begin(stored(track(1), 1));
    const worked = (): number => (post.mock.calls.at(-1) as [string, { body: { worked: number } }])[1].body.worked;
    window.dispatchEvent(new KeyboardEvent("keydown"));
    await vi.advanceTimersByTimeAsync(9000);
    window.dispatchEvent(new KeyboardEvent("keydown"));
    post.mockRejectedValueOnce(new TypeError("no network"));
    tracks.change([[1, track(1, 30)]]);
    await vi.advanceTimersByTimeAsync(400);
    expect(worked()).toBe(9);
    const saved = { tracks: [stored(track(1, 30), 2)], time: { saved: 30 }, timed: 5 };
    post.mockResolvedValue({ data: saved, response: new Response() } as never);
    await vi.advanceTimersByTimeAsync(4000);
    expect([worked(), saving.labour.value.timed]).toEqual([9, 5]);
    post.mockResolvedValue(answer(stored(track(1, 40), 3)) as never);
    tracks.change([[1, track(1, 40)]]);
    await vi.advanceTimersByTimeAsync(400);
    expect(worked()).toBe(0);
  });

  test("without a connection it is kept in the browser, and sent once there is one", async () => {
    begin(stored(track(1), 1));
    post.mockRejectedValue(new TypeError("no network"));
    tracks.change([[1, track(1, 30)]]);
    await vi.advanceTimersByTimeAsync(400);
    expect(saving.state.value).toBe("offline");
    leave();
    // Another day, the same browser.
    post.mockResolvedValue(answer(stored(track(1, 30), 2)) as never);
    begin(stored(track(1), 1));
    expect(shown()).toEqual({ 1: 30 });
    await vi.advanceTimersByTimeAsync(10);
    expect([saving.state.value, sent()[0]!.revision]).toEqual(["saved", 1]);
  });

  test("what only another tab changed is taken over; what both did is asked about", async () => {
    begin(stored(track(1), 1), stored(track(2), 1), stored(track(3), 1));
    const there = { tracks: [stored(track(1, 70), 2), stored(track(2, 80), 2), stored(track(4, 90), 1)] };
    post.mockResolvedValueOnce(refusal(409, there) as never);
    tracks.change([[2, track(2, 5)]]);
    await vi.advanceTimersByTimeAsync(400);
    expect([saving.state.value, saving.conflict.value.map((each) => each.number)]).toEqual(["conflict", [2]]);
    expect(shown()).toEqual({ 1: 70, 2: 5, 4: 90 });
    post.mockResolvedValue(answer(stored(track(2, 5), 3)) as never);
    saving.settle("mine");
    await vi.advanceTimersByTimeAsync(10);
    expect([saving.state.value, sent().map((each) => [each.number, each.revision])]).toEqual(["saved", [[2, 2]]]);
  });

  test("theirs can be kept, and nothing is sent then", async () => {
    begin(stored(track(2), 1));
    post.mockResolvedValueOnce(refusal(409, { tracks: [stored(track(2, 80), 2)] }) as never);
    tracks.change([[2, track(2, 5)]]);
    await vi.advanceTimersByTimeAsync(400);
    saving.settle("theirs");
    await vi.advanceTimersByTimeAsync(4000);
    expect([shown(), saving.state.value, post.mock.calls.length]).toEqual([{ 2: 80 }, "saved", 1]);
  });

  test("two tabs that draw new objects under one number keep both", async () => {
    begin(stored(track(1), 1));
    post.mockResolvedValueOnce(
      refusal(409, { tracks: [stored(track(1), 1), stored(track(2, 80, { uid: "b2" }), 1)] }) as never,
    );
    post.mockResolvedValue(answer(stored(track(3, 5, { uid: "a2" }), 1)) as never);
    tracks.change([[2, track(2, 5)]]);
    await vi.advanceTimersByTimeAsync(500);
    expect(shown()).toEqual({ 1: 0, 2: 80, 3: 5 });
    expect([saving.state.value, sent().map((each) => [each.number, each.revision])]).toEqual(["saved", [[3, 0]]]);
    // What was done to mine is undone on mine, under its new number, and theirs stays.
    expect([tracks.chosen.value, tracks.renumbered]).toEqual([[], [[2, 3]]]);
    post.mockResolvedValue(answer() as never);
    tracks.undo();
    await vi.advanceTimersByTimeAsync(500);
    expect(shown()).toEqual({ 1: 0, 2: 80 });
    expect([saving.state.value, sent()]).toEqual(["saved", [{ number: 3, revision: 1, track: null }]]);
    post.mockResolvedValue(answer(stored(track(3, 5, { uid: "a2" }), 1)) as never);
    tracks.redo();
    await vi.advanceTimersByTimeAsync(500);
    expect(shown()).toEqual({ 1: 0, 2: 80, 3: 5 });
  });

  test("undo over somebody else's work asks, and nothing is lost whatever the answer", async () => {
    begin(stored(track(1), 1), stored(track(2), 1));
    post.mockResolvedValueOnce(answer(stored(track(1, 20), 2)) as never);
    tracks.change([[1, track(1, 20)]]);
    await vi.advanceTimersByTimeAsync(400);
    // Elsewhere object 1 is moved on and gets another class; it comes with a change of object 2.
    const moved = track(1, 60, { class_id: 4 });
    post.mockResolvedValueOnce(refusal(409, { tracks: [stored(moved, 3), stored(track(2), 1)] }) as never);
    post.mockResolvedValueOnce(answer(stored(track(2, 7), 2)) as never);
    tracks.change([[2, track(2, 7)]]);
    await vi.advanceTimersByTimeAsync(500);
    expect([shown(), saving.state.value]).toEqual([{ 1: 60, 2: 7 }, "saved"]);
    post.mockResolvedValueOnce(answer(stored(track(2), 3)) as never);
    tracks.undo();
    await vi.advanceTimersByTimeAsync(500);
    expect([shown(), saving.state.value]).toEqual([{ 1: 60, 2: 0 }, "saved"]);
    const calls = post.mock.calls.length;
    tracks.undo();
    await vi.advanceTimersByTimeAsync(5000);
    expect([saving.state.value, post.mock.calls.length - calls]).toEqual(["conflict", 0]);
    expect(saving.conflict.value.map(({ number, mine, theirs }) => [number, mine!.class_id, theirs!.class_id])).toEqual(
      [[1, 1, 4]],
    );
    saving.settle("theirs");
    await vi.advanceTimersByTimeAsync(5000);
    expect([shown(), saving.state.value, post.mock.calls.length - calls]).toEqual([{ 1: 60, 2: 0 }, "saved", 0]);
    // Asked again, the other answer.
    post.mockResolvedValueOnce(answer(stored(track(1, 20), 4)) as never);
    tracks.redo();
    expect(saving.state.value).toBe("conflict");
    saving.settle("mine");
    await vi.advanceTimersByTimeAsync(500);
    expect([shown()[1], sent().map((each) => [each.number, each.revision])]).toEqual([20, [[1, 3]]]);
  });

  test.each(["the save before it arrives", "the save before it is refused"])(
    "a question stays open while %s",
    async (how) => {
      begin(stored(track(1), 1), stored(track(2), 1));
      post.mockResolvedValueOnce(answer(stored(track(1, 20), 2)) as never);
      tracks.change([[1, track(1, 20)]]);
      await vi.advanceTimersByTimeAsync(400);
      const there = [stored(track(1, 60), 3), stored(track(2), 1)];
      vi.spyOn(api, "GET").mockResolvedValueOnce(answer(...there) as never);
      await saving.renew();
      let arrive!: (answer: unknown) => void;
      post.mockReturnValueOnce(new Promise((resolve) => (arrive = resolve)) as never);
      tracks.change([[2, track(2, 7)]]);
      await vi.advanceTimersByTimeAsync(400);
      tracks.undo();
      tracks.undo();
      const refused = how.endsWith("refused");
      const later = [there[0]!, stored(track(2, 5), 2)];
      arrive(refused ? refusal(409, { tracks: later }) : answer(stored(track(2, 7), 2)));
      const calls = post.mock.calls.length;
      await vi.advanceTimersByTimeAsync(5000);
      expect([saving.state.value, post.mock.calls.length - calls]).toEqual(["conflict", 0]);
      expect(saving.conflict.value.map(({ number }) => number).sort()).toEqual(refused ? [1, 2] : [1]);
      post.mockResolvedValue(answer(stored(track(2), 3)) as never);
      saving.settle("theirs");
      await vi.advanceTimersByTimeAsync(500);
      expect([saving.state.value, shown()]).toEqual(["saved", { 1: 60, 2: refused ? 5 : 0 }]);
    },
  );

  test("a number that is being taken away is not given to another object", async () => {
    begin(stored(track(1), 1), stored(track(3), 1));
    const there = { tracks: [stored(track(1), 1), stored(track(2, 80, { uid: "b2" }), 1)] };
    post.mockResolvedValueOnce(refusal(409, there) as never);
    post.mockResolvedValue(answer(stored(track(4, 5, { uid: "a2" }), 1)) as never);
    tracks.change([[2, track(2, 5)]]);
    // It was the last one, and somebody else took it away as well.
    tracks.change([[3, null]]);
    await vi.advanceTimersByTimeAsync(1000);
    expect([saving.state.value, shown()]).toEqual(["saved", { 1: 0, 2: 80, 4: 5 }]);
  });

  test("an object that got the number of one that is gone is never asked about beside it", async () => {
    begin(stored(track(1), 1), stored(track(2), 1));
    const there = { tracks: [stored(track(1), 1), stored(track(2, 80, { uid: "b2" }), 2)] };
    post.mockResolvedValueOnce(refusal(409, there) as never);
    tracks.change([[2, track(2, 5)]]);
    await vi.advanceTimersByTimeAsync(500);
    // Mine was taken away there: that is what is asked. Theirs is another one, and stays.
    expect(saving.conflict.value).toEqual([{ number: 3, mine: track(3, 5, { uid: "a2" }), theirs: null }]);
    expect(shown()).toEqual({ 1: 0, 2: 80, 3: 5 });
    post.mockResolvedValue(answer(stored(track(3, 5, { uid: "a2" }), 3)) as never);
    saving.settle("mine");
    await vi.advanceTimersByTimeAsync(500);
    expect(sent().map((each) => [each.number, each.revision])).toEqual([[3, 0]]);
    expect([saving.state.value, shown()]).toEqual(["saved", { 1: 0, 2: 80, 3: 5 }]);
    // What was done to it is undone on it.
    tracks.undo();
    expect(shown()).toEqual({ 1: 0, 2: 80, 3: 0 });
  });

  test("one that was taken away while its number was given to another leaves that one alone", async () => {
    begin(stored(track(1), 1), stored(track(2), 1));
    const there = { tracks: [stored(track(1), 1), stored(track(2, 80, { uid: "b2" }), 2)] };
    post.mockResolvedValueOnce(refusal(409, there) as never);
    tracks.change([[2, null]]);
    await vi.advanceTimersByTimeAsync(500);
    expect([saving.state.value, shown()]).toEqual(["saved", { 1: 0, 2: 80 }]);
  });

  test("a draft of an object whose number another one has now is asked about by itself", () => {
    begin(stored(track(1), 1), stored(track(2), 1));
    post.mockResolvedValue({ error: {}, response: new Response(null, { status: 503 }) } as never);
    tracks.change([
      [1, null],
      [2, track(2, 5)],
    ]);
    leave();
    begin(stored(track(1, 40, { uid: "b1" }), 5), stored(track(2, 80, { uid: "b2" }), 5));
    expect(saving.conflict.value).toEqual([{ number: 3, mine: track(3, 5, { uid: "a2" }), theirs: null }]);
    expect(shown()).toEqual({ 1: 40, 2: 80, 3: 5 });
  });

  test("an answer that got lost is no change of somebody else", async () => {
    begin(stored(track(1), 1));
    post.mockRejectedValueOnce(new TypeError("Failed to fetch"));
    tracks.change([[2, track(2, 5)]]);
    await vi.advanceTimersByTimeAsync(500);
    tracks.change([[2, track(2, 6)]]);
    post.mockResolvedValueOnce(refusal(409, { tracks: [stored(track(1), 1), stored(track(2, 5), 1)] }) as never);
    post.mockResolvedValue(answer(stored(track(2, 6), 2)) as never);
    await vi.advanceTimersByTimeAsync(9000);
    expect(sent().map((each) => [each.number, each.revision])).toEqual([[2, 1]]);
    expect([saving.state.value, shown()]).toEqual(["saved", { 1: 0, 2: 6 }]);
  });

  test("a step of two objects is undone whole or not at all", async () => {
    begin(stored(track(1), 1), stored(track(2), 1));
    post.mockResolvedValueOnce(answer(stored(track(1, 30), 2)) as never);
    tracks.change([
      [1, track(1, 30)],
      [2, null],
    ]);
    await vi.advanceTimersByTimeAsync(400);
    post.mockResolvedValueOnce({ data: { tracks: [stored(track(1, 90), 3)], time: null, timed: 0 } } as never);
    vi.spyOn(api, "GET").mockResolvedValueOnce(answer(stored(track(1, 90), 3)) as never);
    await saving.renew();
    tracks.undo();
    expect(saving.conflict.value.map((each) => each.number)).toEqual([1, 2]);
    saving.settle("theirs");
    expect(shown()).toEqual({ 1: 90 });
  });

  test("an object whose class was merged meanwhile has the one that it became", async () => {
    begin(stored(track(1), 1));
    post.mockResolvedValueOnce(answer(stored(track(1, 30, { class_id: 9 }), 2)) as never);
    tracks.change([[1, track(1, 30)]]);
    await vi.advanceTimersByTimeAsync(400);
    expect([tracks.all.value.get(1)!.class_id, saving.state.value]).toEqual([9, "saved"]);
  });

  test("what cannot be kept says why, and stays here", async () => {
    begin(stored(track(1), 1));
    post.mockResolvedValue(refusal(422) as never);
    tracks.change([[1, track(1, 9999)]]);
    await vi.advanceTimersByTimeAsync(400);
    expect([saving.state.value, saving.message.value, shown()]).toEqual(["refused", "no", { 1: 9999 }]);
  });

  test("what a model proposed is refused rather than forgotten", () => {
    begin(stored(track(1, 0, { model: "run 1" }), 1), stored(track(2), 1));
    tracks.chosen.value = [1, 2];
    tracks.remove();
    expect([...tracks.all.value.values()].map((each) => [each.number, each.standing])).toEqual([[1, "refused"]]);
  });
});
