import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";

import { useFrames } from "@/views/clips/editing/frames";
import { frameAt, usePlaying } from "@/views/clips/editing/playing";
import { certainty, frameAtX, LABEL, sampleFrames, type StripView, xOf } from "@/views/clips/editing/strips";
import type { Track } from "@/views/clips/editing/trajectory";
import { mounted } from "./mounted";
import { randomFrom } from "./random";

const track = (changes: Partial<Track> = {}): Track => ({
  number: 1,
  uid: "a1",
  class_id: 1,
  spans: [[0, 200]],
  sets: [
    { frame: 0, corners: [0, 0, 9, 9], held: false, origin: "hand" },
    { frame: 200, corners: [0, 0, 9, 9], held: false, origin: "carried" },
  ],
  attributes: [],
  unsure: [],
  model: "",
  standing: "kept",
  ...changes,
});

describe("strips", () => {
  test("a place on the strip is the frame that is drawn there, however closely it is looked at", () => {
    const next = randomFrom(4);
    for (let round = 0; round < 300; round += 1) {
      const from = Math.floor(next() * 900);
      const view: StripView = {
        width: LABEL + 100 + next() * 900,
        height: 180,
        scroll: 0,
        from,
        to: from + Math.floor(next() * 400),
      };
      const frame = from + Math.floor(next() * (view.to - from + 1));
      expect(frameAtX(view, xOf(view, frame))).toBe(frame);
      expect([frameAtX(view, -50), frameAtX(view, 5000)]).toEqual([from, view.to]);
      const samples = sampleFrames(view);
      expect(samples.every((each) => each >= from && each <= view.to)).toBe(true);
      expect(new Set(samples).size).toBe(samples.length);
    }
  });

  test("what a person set is sure, what is doubted is not, and doubt fades with distance", () => {
    const doubted = track({ unsure: [100] });
    expect([certainty(track(), 2), certainty(track(), 150)]).toEqual([1, 0.8]);
    const around = [100, 102, 104, 108, 109].map((frame) => certainty(doubted, frame));
    expect(around).toEqual([...around].sort((a, b) => a - b));
    expect(around[0]).toBeLessThan(0.4);
    expect(certainty(track({ unsure: [3] }), 2)).toBeLessThan(0.6);
  });
});

describe("playing", () => {
  const times = [0, 0.1, 0.2, 0.5, 0.6];
  let clock = 0;
  let ticks: FrameRequestCallback[] = [];
  beforeEach(() => {
    clock = 0;
    ticks = [];
    vi.spyOn(performance, "now").mockImplementation(() => clock);
    vi.stubGlobal("requestAnimationFrame", (tick: FrameRequestCallback) => ticks.push(tick));
    vi.stubGlobal("cancelAnimationFrame", () => undefined);
  });
  afterEach(() => {
    vi.restoreAllMocks();
    vi.unstubAllGlobals();
  });
  function pass(milliseconds: number): void {
    clock += milliseconds;
    for (const tick of ticks.splice(0)) tick(clock);
  }

  test("the frame of a moment is the last that is shown by then", () => {
    expect([-1, 0, 0.15, 0.2, 0.49, 9].map((moment) => frameAt(times, moment))).toEqual([0, 0, 1, 2, 2, 4]);
  });

  test("it goes by the clip's own times, faster where that is wanted, to its end", () => {
    const { made: playing, leave } = mounted(() => usePlaying(times, () => true));
    playing.toggle();
    pass(210);
    expect(playing.frame.value).toBe(2);
    pass(200);
    expect(playing.frame.value).toBe(2);
    pass(100);
    expect([playing.frame.value, playing.playing.value]).toEqual([3, true]);
    pass(500);
    expect([playing.frame.value, playing.playing.value]).toEqual([4, false]);
    playing.toggle();
    playing.speed.value = 4;
    pass(60);
    expect(playing.frame.value).toBe(2);
    playing.step(-10);
    expect([playing.frame.value, playing.playing.value]).toEqual([0, false]);
    leave();
  });

  test("what has not come is waited for", () => {
    const there = new Set([0, 1]);
    const { made: playing, leave } = mounted(() => usePlaying(times, (frame) => there.has(frame)));
    playing.toggle();
    for (let round = 0; round < 20; round += 1) pass(50);
    expect([playing.frame.value, playing.playing.value]).toEqual([1, true]);
    times.forEach((_, frame) => there.add(frame));
    for (let round = 0; round < 20; round += 1) pass(50);
    expect(playing.frame.value).toBe(4);
    leave();
  });
});

describe("frames in the browser", () => {
  const size = { width: 1000, height: 500 };
  let asked: string[] = [];
  beforeEach(() => {
    asked = [];
    vi.stubGlobal("fetch", (address: string) => {
      asked.push(address);
      const bad = address.endsWith("/frames/3");
      const answer = { ok: !bad, blob: () => Promise.resolve({}), json: () => Promise.resolve({ detail: "damaged" }) };
      return Promise.resolve(answer);
    });
    vi.stubGlobal("createImageBitmap", () => Promise.resolve({ close: () => undefined }));
  });
  afterEach(() => vi.unstubAllGlobals());
  const settled = (): Promise<void> => new Promise((resolve) => setTimeout(resolve, 30));

  test("the wanted one first, then those ahead, each once; a damaged one says so and can be asked for again", async () => {
    const { made: frames, leave } = mounted(() => useFrames(7, size, 50));
    frames.go(10);
    await settled();
    expect(asked[0]).toBe("/api/v1/clips/7/frames/10");
    expect(frames.at(10)).toBeDefined();
    expect(frames.ahead(10)).toBeGreaterThanOrEqual(20);
    expect(new Set(asked).size).toBe(asked.length);
    frames.go(2);
    await settled();
    expect([frames.at(3), frames.failed.value.get(3)]).toEqual([undefined, "damaged"]);
    const before = asked.length;
    frames.again(3);
    await settled();
    expect(asked.slice(before)).toContain("/api/v1/clips/7/frames/3");
    leave();
  });

  test("wide frames are passed smaller, and few are kept", async () => {
    const { made: frames, leave } = mounted(() => useFrames(7, { width: 7680, height: 4320 }, 500));
    frames.go(100);
    await settled();
    expect([asked[0], frames.whole]).toEqual(["/api/v1/clips/7/frames/100?width=1920", false]);
    frames.go(400);
    await settled();
    expect([frames.at(100), Boolean(frames.at(400))]).toEqual([undefined, true]);
    leave();
  });
});
