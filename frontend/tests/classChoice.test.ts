import { beforeEach, describe, expect, test } from "vitest";
import { ref } from "vue";

import type { ObjectClass } from "@/api/client";
import { useClassChoice } from "@/views/labels/editing/classChoice";

describe("whom a digit is for", () => {
  const selection = ref<number[]>([]);
  let done: string[] = [];
  let choice: ReturnType<typeof useClassChoice>;
  beforeEach(() => {
    selection.value = [];
    done = [];
    const classes = Array.from({ length: 12 }, (_, place) => ({ id: 100 + place, position: place + 1 }) as ObjectClass);
    choice = useClassChoice({
      classes: () => classes,
      renewed: async () => void classes.splice(2, 1),
      selection,
      ofNew: (id) => done.push(`new ${id}`),
      ofSelected: (id) => done.push(`selected ${id}`),
    });
  });

  test("new boxes, and those that were selected by hand", () => {
    selection.value = [3];
    choice.digit("2");
    expect(done).toEqual(["new 101", "selected 101"]);
  });

  test("not the box that was just drawn, which has its class already", () => {
    choice.drawn.value = 3;
    selection.value = [3];
    choice.digit("2");
    expect([choice.isFresh.value, done]).toEqual([true, ["new 101"]]);
    choice.digitOfSelected("4");
    expect(done.at(-1)).toBe("selected 103");
    expect(done.length).toBe(2);
  });

  test("until it is selected by hand, or others are selected too", () => {
    choice.drawn.value = 3;
    selection.value = [1, 3];
    choice.choose(105);
    choice.drawn.value = -1;
    selection.value = [3];
    choice.choose(106);
    expect(done).toEqual(["new 105", "selected 105", "new 106", "selected 106"]);
  });

  test("a class that was merged meanwhile is drawn no more: new boxes have the one that it became", async () => {
    await choice.merged([
      [102, 105],
      [102, 105],
    ]);
    expect(done).toEqual(["new 105"]);
  });

  test("two digits are the class of that number, a nought among them", () => {
    choice.digit("1");
    choice.digit("2");
    choice.digit("1");
    expect([choice.zero(), done.filter((each) => each.startsWith("new"))]).toEqual([
      true,
      ["new 100", "new 111", "new 100", "new 109"],
    ]);
    // Alone it is the stage's.
    expect(choice.zero()).toBe(false);
  });

  test("a number that no class has does nothing", () => {
    const few = useClassChoice({
      classes: () => [],
      renewed: async () => undefined,
      selection,
      ofNew: () => done.push("new"),
      ofSelected: () => done.push("selected"),
    });
    few.digit("5");
    expect(done).toEqual([]);
  });
});
