/** The ways of suppression that can be tried. */
export const SUPPRESSIONS = [
  { value: "by class", label: "Greedy, class by class" },
  { value: "across classes", label: "Greedy, across classes" },
  { value: "linear", label: "Soft, linear" },
  { value: "gaussian", label: "Soft, Gaussian" },
] as const;

export type Suppression = (typeof SUPPRESSIONS)[number]["value"];
