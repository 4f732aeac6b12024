/** Which measurements can be drawn in one chart: those on the same pictures, one of each model. */
import type { Evaluation } from "@/api/client";

/** What measurements of one and the same model have in common. */
function model(each: Evaluation): string {
  if (each.run_id) return `run ${each.run_id}, ${each.settings.checkpoint}`;
  return each.ensemble_id ? `ensemble ${each.ensemble_id}` : each.name;
}

/** The chosen two, and of every other model the first one listed: measured with its speed, on the pictures of the first. */
export function comparable(
  evaluations: Evaluation[],
  first: number | undefined,
  second: number | undefined,
): Evaluation[] {
  const like = evaluations.find((each) => each.id === first) ?? evaluations[0];
  const chosen = (each: Evaluation): number => Number([first, second].includes(each.id));
  const found = new Map<string, Evaluation>();
  for (const each of [...evaluations].sort((a, b) => chosen(b) - chosen(a))) {
    const alike = each.part === like?.part && each.snapshot_id === like?.snapshot_id;
    if (each.report?.milliseconds && alike && !found.has(model(each))) found.set(model(each), each);
  }
  return [...found.values()];
}
