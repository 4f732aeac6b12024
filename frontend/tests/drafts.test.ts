import { beforeEach, describe, expect, test, vi } from "vitest";

import { api, type Labels } from "@/api/client";
import {
  type Draft,
  draftedPictures,
  draftOf,
  dropDraft,
  isThere,
  keepDraft,
  sendDrafts,
  sendsItself,
} from "@/views/labels/saving/drafts";

const draft = (x = 1): Draft => ({
  revision: 3,
  state: "done",
  boxes: [
    {
      class_id: 1,
      corners: [x, 2, 30, 40],
      crowd: false,
      attributes: { sure: true, side: "left" },
      track: null,
      origin: null,
    },
  ],
});
const problem = (status: number, current: unknown = null) => ({
  error: { type: "about:blank", title: "No", status, detail: "no", current },
  response: new Response(null, { status }),
});
const saved = () => ({ data: { ...draft(), revision: 4 }, response: new Response() });

beforeEach(() => localStorage.clear());

describe("drafts in the browser", () => {
  test("are kept by picture and dropped", () => {
    keepDraft(7, draft());
    keepDraft(12, draft(5));
    expect(draftedPictures().sort((a, b) => a - b)).toEqual([7, 12]);
    expect(draftOf(12)).toEqual(draft(5));
    dropDraft(12);
    expect(draftOf(12)).toBeNull();
    expect(draftedPictures()).toEqual([7]);
  });

  test("one that cannot be read is none", () => {
    localStorage.setItem("avocet.draft.7", "{broken");
    expect(draftOf(7)).toBeNull();
  });

  test("a full store loses nothing that the page holds", () => {
    vi.spyOn(Storage.prototype, "setItem").mockImplementation(() => {
      throw new DOMException("full", "QuotaExceededError");
    });
    expect(() => keepDraft(7, draft())).not.toThrow();
  });

  test("other things in the store are no drafts", () => {
    localStorage.setItem("avocet.side", "416");
    expect(draftedPictures()).toEqual([]);
  });
});

describe("whether the server has it already", () => {
  const labels = { ...draft(), revision: 9 } as Labels;

  test("the revision does not matter, nor the order of attributes", () => {
    const turned = { ...labels, boxes: [{ ...labels.boxes[0]!, attributes: { side: "left", sure: true } }] };
    expect(isThere(draft(), turned)).toBe(true);
  });

  test.each([
    ["another corner", { ...labels, boxes: draft(2).boxes }],
    ["another state", { ...labels, state: "in_progress" }],
    ["a box less", { ...labels, boxes: [] }],
    ["another class", { ...labels, boxes: [{ ...draft().boxes[0]!, class_id: 2 }] }],
  ])("not with %s", (_, other) => expect(isThere(draft(), other as Labels)).toBe(false));
});

describe("sending what is left", () => {
  /** The server's answers, one after the other. */
  const answers = (...given: unknown[]) => {
    const rest = [...given];
    return vi.spyOn(api, "PUT").mockImplementation((async () => {
      const next = rest.shift();
      if (next instanceof Error) throw next;
      return next;
    }) as typeof api.PUT);
  };

  test("a picture is left to its own view until that has let go of it", async () => {
    keepDraft(7, draft());
    const asked = answers(saved());
    const [release, again] = [sendsItself(7), sendsItself(7)];
    expect(await sendDrafts()).toBe(0);
    release();
    release();
    expect(await sendDrafts()).toBe(0);
    expect([asked.mock.calls.length, draftedPictures()]).toEqual([0, [7]]);
    again();
    expect([await sendDrafts(), draftedPictures()]).toEqual([1, []]);
  });

  test("what is sent is dropped", async () => {
    keepDraft(7, draft());
    answers(saved());
    expect(await sendDrafts()).toBe(1);
    expect(draftedPictures()).toEqual([]);
  });

  test("a server that cannot be reached is asked again, and each draft is sent once", async () => {
    vi.useFakeTimers();
    keepDraft(7, draft());
    const asked = answers(new TypeError("no connection"), problem(503), saved(), saved());
    const first = sendDrafts();
    const second = sendDrafts();
    await vi.advanceTimersByTimeAsync(2900);
    expect([asked.mock.calls.length, draftedPictures()]).toEqual([1, [7]]);
    keepDraft(8, draft());
    await vi.advanceTimersByTimeAsync(6000);
    expect(await Promise.all([first, second])).toEqual([2, 2]);
    expect([asked.mock.calls.length, draftedPictures()]).toEqual([4, []]);
    vi.useRealTimers();
  });

  test("one that cannot be used stays, and is not in the way of others", async () => {
    keepDraft(7, draft());
    keepDraft(8, draft());
    answers(problem(422), saved());
    expect(await sendDrafts()).toBe(1);
    expect(draftedPictures().length).toBe(1);
  });

  test("what was changed meanwhile stays, unless it is the same", async () => {
    keepDraft(7, draft());
    answers(problem(409, { ...draft(50), revision: 5 }));
    await sendDrafts();
    expect(draftedPictures()).toEqual([7]);
    answers(problem(409, { ...draft(), revision: 5 }));
    await sendDrafts();
    expect(draftedPictures()).toEqual([]);
  });

  test("a picture that is gone needs no draft", async () => {
    keepDraft(7, draft());
    answers(problem(404));
    await sendDrafts();
    expect(draftedPictures()).toEqual([]);
  });
});
