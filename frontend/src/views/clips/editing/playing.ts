/** The frame that is shown: stepped, gone to, and played at the clip's own times. */
import { onBeforeUnmount, ref, watch } from "vue";

export const SPEEDS = [0.25, 0.5, 1, 2, 4] as const;

/** The last frame that is shown no later than a moment. */
export function frameAt(times: readonly number[], moment: number): number {
  let [low, high] = [0, times.length - 1];
  while (low < high) {
    const middle = (low + high + 1) >> 1;
    if (times[middle]! <= moment) low = middle;
    else high = middle - 1;
  }
  return low;
}

export function usePlaying(times: readonly number[], isThere: (frame: number) => boolean) {
  const frame = ref(0);
  const playing = ref(false);
  const speed = ref(1);
  const last = times.length - 1;
  let begun = { clock: 0, time: 0 };
  let wanted = 0;

  function go(to: number): void {
    playing.value = false;
    frame.value = Math.min(Math.max(Math.round(to), 0), last);
  }

  function start(): void {
    if (frame.value >= last) frame.value = 0;
    playing.value = true;
    begun = { clock: performance.now(), time: times[frame.value]! };
    wanted = requestAnimationFrame(tick);
  }

  function tick(clock: number): void {
    if (!playing.value) return;
    const moment = begun.time + ((clock - begun.clock) / 1000) * speed.value;
    const next = frameAt(times, moment);
    if (next > frame.value) {
      // What has not come yet is waited for: no frame is passed over unseen.
      if (isThere(next) || isThere(frame.value + 1)) frame.value = isThere(next) ? next : frame.value + 1;
      if (frame.value < next) begun = { clock, time: times[frame.value]! };
    }
    if (frame.value >= last) playing.value = false;
    else wanted = requestAnimationFrame(tick);
  }

  watch(speed, () => (begun = { clock: performance.now(), time: times[frame.value]! }));
  onBeforeUnmount(() => cancelAnimationFrame(wanted));

  return {
    frame,
    playing,
    speed,
    last,
    go,
    step: (by: number) => go(frame.value + by),
    toggle: () => (playing.value ? go(frame.value) : start()),
  };
}
