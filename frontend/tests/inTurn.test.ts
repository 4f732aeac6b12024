import { nextTick, ref } from "vue";
import { expect, test } from "vitest";

import { useTurns } from "@/parts/inTurn";

test("two at a time, in order, and from the beginning with another list", async () => {
  const list = ref([5, 10, 15, 20]);
  const turns = useTurns(list);
  const may = (): boolean[] => list.value.map((_, place) => turns.may(place));
  expect(may()).toEqual([true, true, false, false]);
  turns.next();
  expect(may()).toEqual([true, true, true, false]);
  turns.next();
  turns.next();
  expect(may()).toEqual([true, true, true, true]);
  list.value = [1, 2, 3];
  await nextTick();
  expect([may(), turns.round.value]).toEqual([[true, true, false], 1]);
});
