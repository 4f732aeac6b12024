import type { Address } from "@/api/client";

/** Which model is chosen, as the server is told. */
export interface ModelNumbers {
  run_id: number | null;
  ensemble_id: number | null;
}

/** The model that answers under an address now. */
export function answering(address: Address): Address["models"][number] | undefined {
  return address.models.at(-1);
}

/** Of a value of `ModelSelect`, such as `run 3`. */
export function numbersOf(model: string): ModelNumbers {
  const [kind, id] = model.split(" ");
  return { run_id: kind === "run" ? Number(id) : null, ensemble_id: kind === "ensemble" ? Number(id) : null };
}
