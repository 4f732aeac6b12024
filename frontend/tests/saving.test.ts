import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";

import { api, type Labels } from "@/api/client";
import { opened } from "@/views/labels/editing/walk";
import { draftOf, keepDraft, stillSending } from "@/views/labels/saving/drafts";
import { useSaving } from "@/views/labels/saving/saving";
import { later, mounted } from "./mounted";

const labels = (revision: number, x = 0): Labels => ({
  revision,
  state: "done",
  boxes: [{ class_id: 1, corners: [x, 0, x + 9, 9], crowd: false, attributes: {}, track: null, origin: null }],
});
const good = (revision: number, x = 0) => ({ data: { labels: labels(revision, x) }, response: new Response() });
const bad = (status: number, current: unknown = null) => ({
  error: { detail: "no", current },
  response: new Response(null, { status }),
});

describe("saving by itself", () => {
  let shown = 0;
  let saved: number[] = [];
  let sentThen: number[] = [];
  let put: ReturnType<typeof vi.spyOn>;
  let saving: ReturnType<typeof useSaving>;
  let leave: () => void;

  beforeEach(() => {
    vi.useFakeTimers();
    localStorage.clear();
    shown = 1;
    saved = [];
    sentThen = [];
    put = vi.spyOn(api, "PUT");
    ({ made: saving, leave } = mounted(() =>
      useSaving(
        5,
        () => ({ boxes: labels(0, shown).boxes, state: "done" }),
        (now, _before, sent) => {
          saved.push(now.revision);
          sentThen.push(sent.boxes[0]!.corners[0]!);
        },
      ),
    ));
    saving.start(labels(3));
  });
  afterEach(() => {
    leave();
    vi.useRealTimers();
  });
  const sent = (): { revision: number }[] =>
    put.mock.calls.map((call: unknown[]) => (call[1] as { body: { revision: number } }).body);

  test("one request a little after the last of several changes", async () => {
    put.mockResolvedValue(good(4) as never);
    saving.touch();
    await vi.advanceTimersByTimeAsync(200);
    saving.touch();
    await vi.advanceTimersByTimeAsync(200);
    expect(put).not.toHaveBeenCalled();
    await vi.advanceTimersByTimeAsync(200);
    expect(put).toHaveBeenCalledTimes(1);
    expect([saving.state.value, saved, draftOf(5)]).toEqual(["saved", [4], null]);
  });

  test("a change on the way is sent after it, on top of what was saved", async () => {
    const [first, second] = [later<unknown>(), later<unknown>()];
    put.mockReturnValueOnce(first.promise as never).mockReturnValueOnce(second.promise as never);
    saving.touch();
    await vi.advanceTimersByTimeAsync(400);
    shown = 2;
    saving.touch();
    first.keep(good(4));
    await vi.advanceTimersByTimeAsync(1);
    // Until then the draft is one of the new revision: after a crash it is no conflict.
    expect(draftOf(5)!.revision).toBe(4);
    second.keep(good(5, 2));
    await vi.advanceTimersByTimeAsync(1000);
    expect(sent().map((each) => each.revision)).toEqual([3, 4]);
    expect(saved).toEqual([4, 5]);
    // Each answer is told with what it answers, not with what is there by then.
    expect(sentThen).toEqual([1, 2]);
  });

  test("an answer about what was there before the last save is not gone back to", async () => {
    put.mockResolvedValue(good(4) as never);
    saving.touch();
    await vi.advanceTimersByTimeAsync(400);
    expect([saving.renewed(labels(3)), saving.renewed(labels(4)), saving.renewed(labels(6))]).toEqual([
      false,
      false,
      true,
    ]);
  });

  test("whoever comes back while the last save is under way waits for it", async () => {
    const answer = later<unknown>();
    put.mockReturnValueOnce(answer.promise as never);
    saving.touch();
    leave();
    const get = vi
      .spyOn(api, "GET")
      .mockResolvedValue({ data: { labels: labels(4) }, response: new Response() } as never);
    const opening = opened(5);
    await vi.advanceTimersByTimeAsync(600);
    expect([stillSending(5) !== undefined, get.mock.calls.length]).toEqual([true, 0]);
    answer.keep(good(4));
    const { detail, fresh } = await opening;
    expect([detail.labels.revision, fresh, stillSending(5), draftOf(5)]).toEqual([4, true, undefined, null]);
    get.mockRestore();
  });

  test("a lost connection keeps a draft and tries again", async () => {
    put.mockRejectedValueOnce(new TypeError("gone") as never).mockResolvedValueOnce(good(4) as never);
    saving.touch();
    await vi.advanceTimersByTimeAsync(400);
    expect(saving.state.value).toBe("offline");
    expect(draftOf(5)!.boxes[0]!.corners[0]).toBe(1);
    await vi.advanceTimersByTimeAsync(3100);
    expect([saving.state.value, draftOf(5)]).toEqual(["saved", null]);
  });

  test("what cannot be used is said and not tried again", async () => {
    put.mockResolvedValue(bad(422) as never);
    saving.touch();
    await vi.advanceTimersByTimeAsync(20_000);
    expect([saving.state.value, saving.message.value]).toEqual(["refused", "no"]);
    expect(put).toHaveBeenCalledTimes(1);
  });

  test("of two versions mine is sent over theirs only when a person says so", async () => {
    put.mockResolvedValueOnce(bad(409, labels(8, 50)) as never).mockResolvedValueOnce(good(9, 1) as never);
    saving.touch();
    await vi.advanceTimersByTimeAsync(10_000);
    expect([saving.state.value, put.mock.calls.length]).toEqual(["conflict", 1]);
    await saving.keepMine();
    expect(sent().map((each) => each.revision)).toEqual([3, 8]);
    expect(saving.state.value).toBe("saved");
  });

  test("or theirs is gone on from, and the draft is dropped", async () => {
    put.mockResolvedValueOnce(bad(409, labels(8, 50)) as never).mockResolvedValueOnce(good(9) as never);
    saving.touch();
    await vi.advanceTimersByTimeAsync(400);
    expect(saving.takeTheirs()).toEqual(labels(8, 50));
    expect([saving.state.value, draftOf(5), saving.theirs.value]).toEqual(["saved", null, null]);
    saving.touch();
    await vi.advanceTimersByTimeAsync(400);
    expect(sent().at(-1)!.revision).toBe(8);
  });

  test("or what both did is gone on from, on top of theirs", async () => {
    put.mockResolvedValueOnce(bad(409, { ...labels(8), boxes: [...labels(8).boxes, ...labels(8, 70).boxes] }) as never);
    saving.touch();
    await vi.advanceTimersByTimeAsync(400);
    // Here the box was moved by one; there another one was drawn.
    expect(saving.both().boxes.map((box) => box.corners[0])).toEqual([1, 70]);
    expect([saving.state.value, saving.theirs.value]).toEqual(["saved", null]);
    put.mockResolvedValueOnce(good(9) as never);
    saving.touch();
    await vi.advanceTimersByTimeAsync(400);
    expect(sent().at(-1)!.revision).toBe(8);
  });

  test("an undo that meets somebody else's work asks, and sends nothing unasked", async () => {
    saving.disagree(labels(8, 50), labels(3));
    await vi.advanceTimersByTimeAsync(10_000);
    expect([saving.state.value, put.mock.calls.length]).toEqual(["conflict", 0]);
  });

  test("a draft of the same revision is taken up, one of another asks", () => {
    keepDraft(5, { ...labels(3, 77), revision: 3 });
    expect(saving.start(labels(3))!.boxes[0]!.corners[0]).toBe(77);
    expect(saving.state.value).toBe("waiting");
    expect(saving.start(labels(6))!.boxes[0]!.corners[0]).toBe(77);
    expect(saving.state.value).toBe("conflict");
    keepDraft(5, { ...labels(2, 4), revision: 2 });
    expect(saving.start(labels(9, 4))).toBeNull();
  });

  test("leaving the picture saves at once", async () => {
    put.mockResolvedValue(good(4) as never);
    saving.touch();
    leave();
    await vi.advanceTimersByTimeAsync(1);
    expect(put).toHaveBeenCalledTimes(1);
  });

  test("left without a connection, what was drawn is sent once the server answers, and once only", async () => {
    put.mockRejectedValueOnce(new TypeError("gone") as never).mockRejectedValueOnce(new TypeError("gone") as never);
    saving.touch();
    leave();
    await vi.advanceTimersByTimeAsync(1);
    put.mockResolvedValue(good(4) as never);
    await vi.advanceTimersByTimeAsync(20_000);
    expect(sent().map((each) => each.revision)).toEqual([3, 3, 3]);
    expect(draftOf(5)).toBeNull();
  });

  test("what the server has already, from an answer lost on the way, is no conflict", async () => {
    put.mockResolvedValueOnce(bad(409, labels(4, 1)) as never).mockResolvedValueOnce(good(5, 2) as never);
    saving.touch();
    await vi.advanceTimersByTimeAsync(400);
    expect([saving.state.value, saving.theirs.value, draftOf(5), saved]).toEqual(["saved", null, null, [4]]);
    shown = 2;
    saving.touch();
    await vi.advanceTimersByTimeAsync(400);
    expect(sent().at(-1)!.revision).toBe(4);
  });

  test("closing the page asks while something is not saved", () => {
    const closing = (): boolean => !window.dispatchEvent(new Event("beforeunload", { cancelable: true }));
    expect(closing()).toBe(false);
    saving.touch();
    expect(closing()).toBe(true);
  });
});
