import { beforeEach, describe, expect, test } from "vitest";
import { nextTick, type Ref, ref } from "vue";

import type { LabelActions } from "@/views/labels/editing/labelKeys";
import { forgetTyped, typedAhead } from "@/views/labels/editing/typedAhead";
import { mounted } from "./mounted";

/** A picture whose keys say what they did. */
function picture(name: string, done: string[], settled: Ref<boolean> = ref(false)) {
  const act =
    (what: string, stays = true) =>
    () => {
      done.push(`${name} ${what}`);
      if (!stays) settled.value = false;
    };
  const actions = {
    digit: (digit: string) => done.push(`${name} class ${digit}`),
    remove: act("remove"),
    next: act("next", false),
    doneAndNext: act("done", false),
    escape: act("escape"),
  } as unknown as LabelActions;
  const { made, leave } = mounted(() => typedAhead(actions, settled));
  return { keys: made, settled, leave };
}

beforeEach(forgetTyped);

describe("keys while a picture settles", () => {
  test("wait for it, and are done in their order", async () => {
    const done: string[] = [];
    const { keys, settled } = picture("a", done);
    keys.digit("3");
    keys.remove();
    expect(done).toEqual([]);
    settled.value = true;
    await nextTick();
    expect(done).toEqual(["a class 3", "a remove"]);
  });

  test("are meant for the picture that comes once this one is being left", async () => {
    const done: string[] = [];
    const first = picture("a", done, ref(true));
    first.keys.doneAndNext();
    first.keys.digit("2");
    first.keys.doneAndNext();
    first.keys.remove();
    first.leave();
    const second = picture("b", done);
    second.settled.value = true;
    await nextTick();
    second.leave();
    const third = picture("c", done, ref(true));
    await nextTick();
    expect(done).toEqual(["a done", "b class 2", "b done", "c remove"]);
    third.leave();
  });

  test("a step waits for nothing, unless something was pressed before it", () => {
    const done: string[] = [];
    const { keys } = picture("a", done);
    keys.next();
    expect(done).toEqual(["a next"]);
    keys.remove();
    keys.next();
    expect(done).toEqual(["a next"]);
  });

  test("Escape gives up what waits", async () => {
    const done: string[] = [];
    const { keys, settled } = picture("a", done);
    keys.remove();
    keys.escape();
    settled.value = true;
    await nextTick();
    expect(done).toEqual(["a escape"]);
  });

  test("what waited is done with the next key, where it settled unseen", () => {
    const done: string[] = [];
    const settled = ref(false);
    const { keys } = picture("a", done, settled);
    keys.remove();
    settled.value = true;
    keys.digit("1");
    expect(done).toEqual(["a remove", "a class 1"]);
  });

  test("are not kept without end", async () => {
    const done: string[] = [];
    const { keys, settled } = picture("a", done);
    for (let pressed = 0; pressed < 1000; pressed++) keys.remove();
    settled.value = true;
    await nextTick();
    expect(done.length).toBe(200);
  });
});
