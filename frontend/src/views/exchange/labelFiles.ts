/** Files that hold no picture but may say what is on them. */
const SUFFIXES = [".json", ".jsonl", ".ndjson", ".xml", ".csv", ".tsv", ".txt", ".names", ".yaml", ".yml"];

/** As a file field takes them. */
export const LABEL_SUFFIXES = SUFFIXES.join(",");

export function mayHoldLabels(file: File): boolean {
  const name = file.name.toLowerCase();
  return SUFFIXES.some((suffix) => name.endsWith(suffix));
}
