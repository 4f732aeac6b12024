import { computed, type Ref } from "vue";

import type { Address, Run } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import { threshold } from "@/parts/format";

/** Which model is chosen, as the server is told. */
export interface ModelNumbers {
  run_id: number | null;
  ensemble_id: number | null;
}

/** The model that answers under an address now. */
export function answering(address: Address): Address["models"][number] | undefined {
  return address.models.at(-1);
}

/** The minimum score that a model begins with: what its own validation found best, where there was one. */
export function ownScore(run: Run | undefined): number {
  return run?.minimum_score ?? CONSTANTS.minimum_score;
}

/** Minimum scores in words: that of all classes, and those of single ones. */
export function scoresTold(all: number, byClass: Record<string, number>): string {
  return [threshold(all), scoresByClass(byClass)].filter(Boolean).join(", ");
}

/** Minimum scores of single classes in words. */
export function scoresByClass(scores: Record<string, number>): string {
  return Object.entries(scores)
    .map(([name, score]) => `${name} ${threshold(score)}`)
    .join(", ");
}

/** The minimum scores that a model begins with, in words. */
export function scoresOf(run: Run | undefined): string {
  return scoresTold(ownScore(run), run?.minimum_scores ?? {});
}

/** The minimum score of all classes in a form: the model's own stand until another one is wished. */
export function useWishedScore(wished: Ref<number | null>, run: () => Run | undefined) {
  const score = computed({
    get: () => wished.value ?? ownScore(run()),
    set: (value) => (wished.value = value),
  });
  const ofModel = computed({
    get: () => wished.value === null,
    set: (on) => (wished.value = on ? null : ownScore(run())),
  });
  return { score, ofModel };
}

/** The run of a value of `ModelSelect`; none where it is several models combined. */
export function runOf(model: string, runs: readonly Run[]): Run | undefined {
  const { run_id } = numbersOf(model);
  return runs.find((each) => each.id === run_id);
}

/** Of a value of `ModelSelect`, such as `run 3`. */
export function numbersOf(model: string): ModelNumbers {
  const [kind, id] = model.split(" ");
  return { run_id: kind === "run" ? Number(id) : null, ensemble_id: kind === "ensemble" ? Number(id) : null };
}
