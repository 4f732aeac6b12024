/** Keys pressed while a picture settles: each counts, for the picture that was meant. */
import { type Ref, watch } from "vue";

import type { LabelActions } from "@/views/labels/editing/labelKeys";

type Pressed = [keyof LabelActions, unknown[]];

const waiting: Pressed[] = [];
const MOST = 200;

/** These need no picture: a step goes on from where the last one leads, Escape gives up what waits. */
const AT_ONCE = new Set<keyof LabelActions>(["next", "previous", "escape"]);

export function forgetTyped(): void {
  waiting.length = 0;
}

/**
 * The same actions, which wait while the picture is not there yet or is being left; what waits is done in its
 * order once a picture has settled, this one or the one that follows.
 */
export function typedAhead(actions: LabelActions, settled: Ref<boolean>): LabelActions {
  const run = actions as unknown as Record<keyof LabelActions, (...given: unknown[]) => unknown>;

  function catchUp(): void {
    while (settled.value && waiting.length) {
      const [name, given] = waiting.shift()!;
      run[name](...given);
    }
  }

  watch(settled, catchUp, { flush: "post", immediate: true });
  const names = Object.keys(actions) as (keyof LabelActions)[];
  const later = names.map((name) => [
    name,
    (...given: unknown[]) => {
      if (name === "escape") forgetTyped();
      if (!waiting.length && (settled.value || AT_ONCE.has(name))) return run[name](...given);
      if (waiting.length < MOST) waiting.push([name, given]);
      catchUp();
      return true;
    },
  ]);
  return Object.fromEntries(later) as unknown as LabelActions;
}
