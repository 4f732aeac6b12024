/** The two thresholds, shared by the wall and the stage, and remembered in the address. */
import { ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";

import { CONSTANTS } from "@/api/declared";
import { useKeys } from "@/state/keys";

export function useThresholds(act: () => void) {
  const route = useRoute();
  const router = useRouter();
  const minimumScore = ref(within(route.query.score, CONSTANTS.minimum_score));
  const overlapLimit = ref(within(route.query.overlap, CONSTANTS.overlap_limit));
  let wanted = 0;
  let chosen = route.query.score !== undefined;

  /** Begin with what the model's own validation found best, unless a score was chosen. */
  function begin(score: number): void {
    if (!chosen) minimumScore.value = score;
    chosen = true;
  }

  watch([minimumScore, overlapLimit], () => {
    act();
    window.clearTimeout(wanted);
    wanted = window.setTimeout(() => void router.replace({ query: query() }), 300);
  });

  const step = (value: number, by: number, least: number, most: number): number =>
    Math.min(most, Math.max(least, Math.round((value + by) * 100) / 100));
  useKeys([
    {
      keys: ["["],
      label: "Lower the minimum score",
      run: () => (minimumScore.value = step(minimumScore.value, -0.01, 0.01, 0.99)),
    },
    {
      keys: ["]"],
      label: "Raise the minimum score",
      run: () => (minimumScore.value = step(minimumScore.value, 0.01, 0.01, 0.99)),
    },
    {
      keys: ["{"],
      label: "Lower the overlap limit",
      run: () => (overlapLimit.value = step(overlapLimit.value, -0.01, 0, 1)),
    },
    {
      keys: ["}"],
      label: "Raise the overlap limit",
      run: () => (overlapLimit.value = step(overlapLimit.value, 0.01, 0, 1)),
    },
  ]);

  function query(): Record<string, string> {
    return { score: String(minimumScore.value), overlap: String(overlapLimit.value) };
  }

  return { minimumScore, overlapLimit, query, begin };
}

function within(value: unknown, fallback: number): number {
  const number = typeof value === "string" && value !== "" ? Number(value) : NaN;
  return number >= 0 && number <= 1 ? number : fallback;
}

/** Runs the newest request only: while one is under way, later ones wait and the last wins. */
export function latestOnly(work: () => Promise<void>): () => void {
  let running = false;
  let again = false;
  const run = async (): Promise<void> => {
    if (running) {
      again = true;
      return;
    }
    running = true;
    try {
      await work();
    } finally {
      running = false;
      if (again) {
        again = false;
        void run();
      }
    }
  };
  return () => void run();
}
