import type { Address, Run } from "@/api/client";
import { CONSTANTS } from "@/api/declared";

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
