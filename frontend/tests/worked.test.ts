import { describe, expect, test } from "vitest";

import { PAUSE, workClock } from "@/views/labels/saving/worked";

describe("how long somebody works", () => {
  test("from act to act, but for pauses; what did not arrive is told again", () => {
    let at = 100;
    const clock = workClock(() => at);
    for (const gap of [2, 5, PAUSE + 1, 3, PAUSE]) {
      at += gap;
      clock.act();
    }
    expect(clock.take()).toBe(2 + 5 + 3 + PAUSE);
    expect(clock.take()).toBe(0);
    clock.giveBack(4.5);
    at += 1;
    clock.act();
    expect(clock.take()).toBe(5.5);
  });
});
