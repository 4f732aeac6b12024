import { createPinia, setActivePinia } from "pinia";
import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";

import { api, type Job, type Labels } from "@/api/client";
import { useProject } from "@/state/project";

const said = vi.hoisted(() => ({ words: [] as string[], undo: [] as (() => Promise<void>)[] }));
vi.mock("@/state/notes", () => ({
  say: (words: string) => said.words.push(words),
  sayWithUndo: (words: string, undo: () => Promise<void>) => {
    said.words.push(words);
    said.undo.push(undo);
  },
}));

/** The stream of events, as the page would get it. */
class Stream extends EventTarget {
  static OPEN = 1;
  static last: Stream;
  readyState = 1;
  closed = false;
  onopen = null;
  onerror: (() => void) | null = null;
  constructor(readonly address: string) {
    super();
    Stream.last = this;
  }
  close(): void {
    this.closed = true;
  }
  tell(name: string, data: unknown): void {
    this.dispatchEvent(new MessageEvent(name, { data: JSON.stringify(data) }));
  }
}

const job = (state: Job["state"], more: Partial<Job> = {}): Job =>
  ({ id: 5, kind: "set_part", title: "Move to test", state, message: "", outcome: {}, ...more }) as Job;
const made = { change_id: 9, title: "3 pictures moved to test", changed: 3 };
const done = job("done", { outcome: { set_part: made } as unknown as Job["outcome"] });

describe("the open project", () => {
  let store: ReturnType<typeof useProject>;
  let classes: object[];
  beforeEach(async () => {
    vi.useFakeTimers();
    vi.stubGlobal("EventSource", Stream);
    setActivePinia(createPinia());
    said.words.length = said.undo.length = 0;
    classes = [
      { id: 1, name: "roll", position: 1, boxes: 4, retired: false },
      { id: 2, name: "ring", position: 2, boxes: 1, retired: true },
    ];
    vi.spyOn(api, "GET").mockImplementation((async (path: string) => {
      const data = path.endsWith("classes")
        ? { classes }
        : path.endsWith("attributes")
          ? { attributes: [] }
          : path.includes("jobs")
            ? done
            : { id: 3, stages: { pictures: 5, labelled: 2, in_progress: 1, boxes: 5 } };
      return { data: structuredClone(data), response: new Response() };
    }) as never);
    store = useProject();
    await store.open(3);
  });
  afterEach(() => {
    store.close();
    vi.useRealTimers();
    vi.unstubAllGlobals();
  });

  test("is not there before its classes are: a view that opens finds one to draw with", async () => {
    store.close();
    let answer = (): void => undefined;
    const slow = new Promise<void>((resolve) => (answer = resolve));
    const quick = vi.mocked(api.GET).getMockImplementation()!;
    vi.mocked(api.GET).mockImplementation((async (path: string) => {
      if (path.endsWith("classes")) await slow;
      return (quick as (path: string) => unknown)(path);
    }) as never);
    const opened = store.open(4);
    await vi.advanceTimersByTimeAsync(50);
    expect(store.project).toBe(null);
    answer();
    await opened;
    expect([store.project!.id, store.classes.length]).toEqual([3, 1]);
  });

  test("follows what its jobs do, and hides retired classes", () => {
    expect(Stream.last.address).toBe("/api/v1/projects/3/events");
    expect([store.classes.length, store.classById.get(2)!.name]).toEqual([1, "ring"]);
    Stream.last.tell("job", job("running"));
    expect(store.openJobs.map((each) => each.id)).toEqual([5]);
    Stream.last.tell("job", done);
    expect(store.openJobs).toEqual([]);
  });

  test("a change that was made at once is what the server says", async () => {
    expect(await store.madeBy("set_part", Promise.resolve(made as never))).toEqual(made);
  });

  test("a large one is awaited as a job", async () => {
    const asking = store.madeBy("set_part", Promise.resolve({ job: job("waiting") }));
    await vi.advanceTimersByTimeAsync(10);
    Stream.last.tell("job", job("running"));
    Stream.last.tell("job", done);
    expect(await asking).toEqual(made);
  });

  test("a job that ended before anybody waited, or while nobody listened, is noticed", async () => {
    Stream.last.tell("job", done);
    expect((await store.ended(5)).state).toBe("done");
    // Its events went to nobody: it is asked for.
    const asking = store.madeBy("set_part", Promise.resolve({ job: job("waiting", { id: 6 }) }));
    vi.spyOn(api, "GET").mockResolvedValue({ data: { ...done, id: 6 }, response: new Response() } as never);
    await vi.advanceTimersByTimeAsync(4100);
    expect(await asking).toEqual(made);
  });

  test.each([
    ["the disk is full", "the disk is full"],
    ["", "Move to test: failed"],
  ])("one that fails says why: %s", async (message, words) => {
    const asking = store.outcomeOf("set_part", Promise.resolve({ job: job("waiting") }));
    const wrong = expect(asking).rejects.toThrow(words);
    await vi.advanceTimersByTimeAsync(10);
    Stream.last.tell("job", job("failed", { message }));
    await wrong;
  });

  test("a change is said with its way back, and what came of it", async () => {
    let after = 0;
    store.sayChange(made.title, 9, () => (after += 1));
    const undone = { title: made.title, pictures: 2, kept: 1 };
    const post = vi.spyOn(api, "POST").mockResolvedValue({ data: undone, response: new Response() } as never);
    await said.undo[0]!();
    expect(post.mock.calls[0]![1]).toMatchObject({ params: { path: { project_id: 3, change_id: 9 } } });
    expect(said.words).toEqual([made.title, `Undone: ${made.title}; 1 changed since and left as they are`]);
    expect(after).toBe(1);
    // What changed nothing has no way back.
    store.sayChange("None of these pictures is in progress", null);
    expect(said.undo.length).toBe(1);
  });

  test("a save is counted along without asking", () => {
    const labels = (state: Labels["state"], ...of: number[]): Labels => ({
      revision: 1,
      state,
      boxes: of.map((class_id) => ({
        class_id,
        corners: [0, 0, 9, 9],
        crowd: false,
        attributes: {},
        track: null,
        origin: null,
      })),
    });
    store.counted(labels("in_progress", 1), labels("done", 1, 1, 2));
    expect(store.project!.stages).toMatchObject({ labelled: 3, in_progress: 0, boxes: 7 });
    expect(store.allClasses.map((each) => each.boxes)).toEqual([5, 2]);
    store.counted(labels("done", 1, 1, 2), labels("empty"));
    expect(store.project!.stages).toMatchObject({ labelled: 3, boxes: 4 });
  });

  test("a lost stream is said only where it does not come back", async () => {
    Stream.last.readyState = 0;
    Stream.last.onerror!();
    Stream.last.readyState = 1;
    await vi.advanceTimersByTimeAsync(3100);
    expect(store.lost).toBe(false);
    Stream.last.readyState = 2;
    Stream.last.onerror!();
    await vi.advanceTimersByTimeAsync(3100);
    expect(store.lost).toBe(true);
  });

  test("another project begins anew", async () => {
    Stream.last.tell("job", job("running"));
    const before = Stream.last;
    await store.open(4);
    expect([before.closed, store.jobs.size]).toEqual([true, 0]);
  });
});
