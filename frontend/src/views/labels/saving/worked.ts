/** How long somebody works on a picture: from one act to the next, but for pauses. */
import { onBeforeUnmount } from "vue";

/** Seconds without an act after which somebody is taken to be elsewhere. */
export const PAUSE = 30;

const ACTS = ["pointerdown", "pointermove", "keydown", "wheel"] as const;

/** Counts from one act to the next; a gap longer than `PAUSE` counts for nothing. */
export function workClock(now: () => number) {
  let last = now();
  let seconds = 0;

  function act(): void {
    const at = now();
    if (at - last <= PAUSE) seconds += at - last;
    last = at;
  }
  return {
    act,
    /** What has been worked since it was taken last. */
    take(): number {
      const taken = seconds;
      seconds = 0;
      return Math.round(100 * taken) / 100;
    },
    /** What was taken did not arrive. */
    giveBack(taken: number): void {
      seconds += taken;
    },
  };
}

export function useWorked() {
  const clock = workClock(() => performance.now() / 1000);
  for (const each of ACTS) window.addEventListener(each, clock.act, { passive: true, capture: true });
  onBeforeUnmount(() => {
    for (const each of ACTS) window.removeEventListener(each, clock.act, { capture: true });
  });
  return clock;
}
