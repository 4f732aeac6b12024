/** Where boxes come from, in words. */

/** What can be filtered by. */
export const ORIGINS = [
  { value: "hand", label: "Drawn by hand" },
  { value: "proposed", label: "Proposed by a model" },
  { value: "carried", label: "Followed on a clip" },
  { value: "imported", label: "Imported" },
] as const;

export type Origin = (typeof ORIGINS)[number]["value"];

/** Of one box; nothing where it was drawn by hand, or nobody recorded it. */
export function originWords(origin: string | null | undefined): string {
  if (!origin || origin === "hand") return "";
  if (origin === "carried") return "followed on a clip";
  return origin === "imported" ? "imported" : `proposed by ${origin}`;
}
