import { beforeEach, describe, expect, test, vi } from "vitest";
import { nextTick, ref, shallowRef } from "vue";

import { api, type DrawnBox, type Proposal } from "@/api/client";
import { useProposals } from "@/views/labels/editing/proposals";
import { mounted } from "./mounted";

const undo = vi.hoisted(() => [] as (() => unknown)[]);
vi.mock("@/state/notes", () => ({
  complain: () => undefined,
  sayWithUndo: (_words: string, back: () => unknown) => undo.push(back),
}));
const classes = [
  { id: 11, name: "roll", position: 1, colour: "#a00" },
  { id: 12, name: "ring", position: 2, colour: "#00a" },
];
vi.mock("@/state/project", () => ({ useProject: () => ({ classes }) }));

const proposal = (id: number, x: number, y: number, class_name = "roll", score = 0.9): Proposal => ({
  id,
  model: "run 1",
  class_name,
  score,
  corners: [x, y, x + 20, y + 20],
});

describe("what a model proposes for a picture", () => {
  const boxes = shallowRef<DrawnBox[]>([]);
  const selection = ref<number[]>([]);
  let waiting: Proposal[] = [];
  let refused: number[] = [];
  let proposals: ReturnType<typeof useProposals>;
  let leave = (): void => undefined;

  beforeEach(async () => {
    leave();
    [boxes.value, selection.value, undo.length, refused] = [[], [], 0, []];
    waiting = [proposal(1, 50, 60), proposal(2, 0, 10, "ring", 0.4), proposal(3, 40, 10), proposal(4, 0, 0, "brick")];
    const left = (): Proposal[] => waiting.filter((each) => !refused.includes(each.id));
    vi.spyOn(api, "GET").mockImplementation((() =>
      Promise.resolve({ data: { proposals: left() }, response: new Response() })) as never);
    vi.spyOn(api, "POST").mockImplementation(((
      _path: string,
      given: { body: { numbers: number[]; refused: boolean } },
    ) => {
      const { numbers, refused: away } = given.body;
      refused = away ? [...refused, ...numbers] : refused.filter((each) => !numbers.includes(each));
      return Promise.resolve({ data: { proposals: left() }, response: new Response() });
    }) as never);
    const view = mounted(() => useProposals(7, boxes, selection, (next) => (boxes.value = next)));
    [proposals, leave] = [view.made, view.leave];
    proposals.least.value = 0;
    await settle();
  });

  const settle = async (): Promise<void> => {
    for (let turn = 0; turn < 6; turn += 1) await nextTick();
  };
  const press = async (key: string, shiftKey = false): Promise<KeyboardEvent> => {
    const event = new KeyboardEvent("keydown", { key, shiftKey, cancelable: true });
    window.dispatchEvent(event);
    await settle();
    return event;
  };
  const open = (): number[] => proposals.open.value.map((each) => each.id);
  const marked = (): number => proposals.shapes.value.findIndex((each) => each.selected);

  test("they come from the top of the picture to its foot; those of unknown classes are only counted", () => {
    expect(open()).toEqual([2, 3, 1]);
    expect(proposals.unknown.value).toBe(1);
    expect(proposals.shapes.value.map((each) => each.badge)).toEqual(["2  0.40", "1  0.90", "1  0.90"]);
  });

  test("a kept one becomes a box of its class, and comes back when that is undone", async () => {
    await press("ArrowDown");
    expect(marked()).toBe(1);
    await press("ArrowRight");
    expect(boxes.value).toEqual([
      { class_id: 11, corners: [40, 10, 60, 30], crowd: false, attributes: {}, track: null, origin: "run 1" },
    ]);
    expect(open()).toEqual([2, 1]);
    boxes.value = [];
    await settle();
    expect(open()).toEqual([2, 3, 1]);
  });

  test("a box drawn over one settles it, whatever its class", async () => {
    boxes.value = [
      { class_id: 12, corners: [42, 12, 62, 30], crowd: false, attributes: {}, track: null, origin: "run 1" },
    ];
    await settle();
    expect(open()).toEqual([2, 1]);
  });

  test("a refused one is gone, and back when that is taken back", async () => {
    await press("ArrowLeft");
    expect([refused, open()]).toEqual([[2], [3, 1]]);
    undo.at(-1)?.();
    await settle();
    expect([refused, open()]).toEqual([[], [2, 3, 1]]);
  });

  test("with Shift all that are shown, and none under the score", async () => {
    proposals.least.value = 0.5;
    await settle();
    await press("ArrowRight", true);
    expect(boxes.value).toHaveLength(2);
    proposals.least.value = 0;
    await settle();
    expect(open()).toEqual([2]);
    await press("ArrowLeft", true);
    expect(refused).toEqual([2]);
  });

  test("the last one is followed by the one before it, and the list goes round", async () => {
    await press("ArrowUp");
    expect(marked()).toBe(2);
    await press("ArrowRight");
    expect(marked()).toBe(1);
  });

  test("while a box is selected, or none is left, the arrows are not theirs", async () => {
    selection.value = [0];
    expect((await press("ArrowRight")).defaultPrevented).toBe(false);
    expect(boxes.value).toEqual([]);
    expect(marked()).toBe(-1);
    selection.value = [];
    await press("ArrowRight", true);
    expect((await press("ArrowDown")).defaultPrevented).toBe(false);
    expect((await press("ArrowLeft")).defaultPrevented).toBe(false);
  });
});
