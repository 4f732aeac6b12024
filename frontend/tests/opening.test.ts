import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import { createMemoryHistory, createRouter } from "vue-router";

import { api, type Labels } from "@/api/client";
import { useOpening } from "@/views/labels/editing/opening";
import { endWalk, useWalk } from "@/views/labels/editing/walk";
import { mounted } from "./mounted";

const labels = (revision: number): Labels => ({ revision, state: "done", boxes: [] });
const detail = (revision: number) => ({
  data: { picture: { id: 7, name: "still-7.jpg" }, labels: labels(revision) },
  response: new Response(),
});

describe("opening a picture", () => {
  let shown: string[] = [];
  let get: ReturnType<typeof vi.spyOn>;
  let leave = (): void => undefined;
  beforeEach(() => {
    vi.useFakeTimers();
    endWalk();
    shown = [];
    get = vi.spyOn(api, "GET");
  });
  afterEach(() => {
    leave();
    vi.useRealTimers();
  });
  const open = (also = async (): Promise<void> => undefined, atOnce = false) => {
    const view = mounted(() => {
      const opening = useOpening(7, {
        begin: ({ revision }) => shown.push(`begin ${revision}`),
        renew: ({ revision }) => shown.push(`renew ${revision}`),
        also,
      });
      if (atOnce) opening.openAtOnce();
      return opening;
    });
    leave = view.leave;
    return view.made;
  };

  test("it is shown as it comes", async () => {
    get.mockResolvedValue(detail(3) as never);
    const { picture, failed } = open();
    expect(picture.value).toBeNull();
    await vi.advanceTimersByTimeAsync(1);
    expect([picture.value!.name, shown, failed.value]).toEqual(["still-7.jpg", ["begin 3"], ""]);
    expect(get).toHaveBeenCalledTimes(1);
  });

  test("what was loaded ahead is there at once, and renewed by what the server has by now", async () => {
    const routes = createRouter({ history: createMemoryHistory(), routes: [{ path: "/:all(.*)*", component: {} }] });
    get.mockResolvedValueOnce({ data: { ids: [5, 7] }, response: new Response() } as never);
    const walk = useWalk(routes, 1, 5, {});
    await walk.loadIds();
    get.mockResolvedValueOnce(detail(3) as never);
    walk.lookAhead();
    await vi.advanceTimersByTimeAsync(1);
    get.mockResolvedValueOnce(detail(4) as never);
    const { picture } = open(undefined, true);
    expect([picture.value!.name, shown]).toEqual(["still-7.jpg", ["begin 3"]]);
    await vi.advanceTimersByTimeAsync(1);
    expect(shown).toEqual(["begin 3", "renew 4"]);
  });

  test("without a connection it is asked for until it is there", async () => {
    get.mockRejectedValueOnce(new TypeError("gone") as never).mockRejectedValueOnce(new TypeError("gone") as never);
    const { failed, picture } = open();
    await vi.advanceTimersByTimeAsync(1);
    expect(failed.value).not.toBe("");
    get.mockResolvedValue(detail(3) as never);
    await vi.advanceTimersByTimeAsync(6100);
    expect([picture.value!.name, failed.value, shown]).toEqual(["still-7.jpg", "", ["begin 3"]]);
    expect(get).toHaveBeenCalledTimes(3);
  });

  test("nobody asks for one that was left", async () => {
    get.mockRejectedValue(new TypeError("gone") as never);
    open();
    await vi.advanceTimersByTimeAsync(1);
    leave();
    leave = () => undefined;
    await vi.advanceTimersByTimeAsync(20_000);
    expect(get).toHaveBeenCalledTimes(1);
  });

  test("one that is not there is said and not asked for again", async () => {
    const gone = { error: { detail: "there is no picture 7" }, response: new Response(null, { status: 404 }) };
    get.mockResolvedValue(gone as never);
    const { failed } = open();
    await vi.advanceTimersByTimeAsync(20_000);
    expect([failed.value, get.mock.calls.length]).toEqual(["there is no picture 7", 1]);
  });

  test("a picture that is there is not shown again when the rest comes later", async () => {
    get.mockResolvedValue(detail(3) as never);
    let tries = 0;
    const { failed } = open(async () => {
      if (!tries++) throw new Error("no list");
    });
    await vi.advanceTimersByTimeAsync(1);
    expect([failed.value, shown]).toEqual(["no list", ["begin 3"]]);
  });
});
