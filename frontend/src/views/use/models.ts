/** Which model is chosen, as the server is told. */
export interface ModelNumbers {
  run_id: number | null;
  ensemble_id: number | null;
}

/** Of a value of `ModelSelect`, such as `run 3`. */
export function numbersOf(model: string): ModelNumbers {
  const [kind, id] = model.split(" ");
  return { run_id: kind === "run" ? Number(id) : null, ensemble_id: kind === "ensemble" ? Number(id) : null };
}
