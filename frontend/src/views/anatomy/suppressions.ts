/** The ways of suppression that can be tried. */
export const SUPPRESSIONS = [
  { value: "by class", label: "Greedy, class by class" },
  { value: "across classes", label: "Greedy, across classes" },
  { value: "linear", label: "Soft, linear" },
  { value: "gaussian", label: "Soft, Gaussian" },
] as const;

/** Whether a way lowers scores instead of dropping boxes. */
export function isSoft(way: unknown): boolean {
  return way === "linear" || way === "gaussian";
}

export type Suppression = (typeof SUPPRESSIONS)[number]["value"];
