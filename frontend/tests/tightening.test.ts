import { beforeEach, describe, expect, test, vi } from "vitest";
import { shallowRef } from "vue";

import { api, type DrawnBox } from "@/api/client";
import { useTightening } from "@/views/labels/editing/tightening";
import { later } from "./mounted";

const said = vi.hoisted(() => [] as string[]);
vi.mock("@/state/notes", () => ({ say: (words: string) => said.push(words), complain: () => undefined }));

const box = (x: number): DrawnBox => ({
  class_id: 1,
  origin: null,
  corners: [x, 10, x + 20, 30],
  crowd: false,
  attributes: {},
  track: null,
});

describe("tightening", () => {
  const boxes = shallowRef<DrawnBox[]>([]);
  let work: ReturnType<typeof useTightening>;
  beforeEach(() => {
    said.length = 0;
    boxes.value = [box(0), box(40), box(70)];
    work = useTightening(3, boxes, (next) => (boxes.value = next));
    vi.restoreAllMocks();
  });
  function answers(...corners: number[][]): void {
    vi.spyOn(api, "POST").mockReturnValue(
      Promise.resolve({ data: { boxes: corners }, response: new Response() }) as never,
    );
  }

  test("it is shown first, and the same key takes it", async () => {
    answers([1, 11, 19, 29], [40, 10, 60, 30]);
    await work.press([0, 1]);
    expect([work.open.value, [...work.places.value]]).toEqual([[[1, 11, 19, 29]], [0]]);
    expect(boxes.value[0]!.corners[0]).toBe(0);
    await work.press([]);
    expect(boxes.value.map((each) => each.corners[0])).toEqual([1, 40, 70]);
    expect([work.open.value, said]).toEqual([[], []]);
  });

  test("what is left as it is says so, and is not asked for again", async () => {
    answers([1, 11, 19, 29]);
    await work.press([0]);
    expect([work.drop(), work.drop(), work.open.value]).toEqual([true, false, []]);
    expect(boxes.value[0]!.corners[0]).toBe(0);
    answers([0, 10, 20, 30]);
    await work.press([0]);
    expect(said).toEqual(["Its edges stay as they are"]);
  });

  test("a box that was changed meanwhile keeps the change, and an answer given up comes to nothing", async () => {
    answers([1, 11, 19, 29], [41, 11, 59, 29], [71, 11, 89, 29]);
    await work.press([]);
    boxes.value = boxes.value.map((each, place) => (place === 1 ? box(45) : each));
    expect(work.open.value.length).toBe(2);
    await work.press([]);
    expect(boxes.value.map((each) => each.corners[0])).toEqual([1, 45, 71]);

    const answer = later<unknown>();
    vi.spyOn(api, "POST").mockReturnValue(answer.promise as never);
    const pressed = work.press([0]);
    work.drop();
    answer.keep({ data: { boxes: [[5, 15, 15, 25]] }, response: new Response() });
    await pressed;
    expect([work.open.value, said]).toEqual([[], []]);
  });
});
