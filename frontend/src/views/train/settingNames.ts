/** Settings as people call them, and their values as people read them: both as the server declares them. */
import { AUGMENTATION, SETTINGS } from "@/api/declared";
import { capital } from "@/parts/format";

/** What a run keeps beside its settings. */
const KEPT: Record<string, string> = {
  extended: "Extended by",
  starting_weights: "Started from",
  snapshot: "Snapshot",
};
const declared = (key: string) => SETTINGS[key] ?? AUGMENTATION[key];

export const settingName = (key: string): string =>
  declared(key)?.title ?? KEPT[key] ?? capital(key.replaceAll("_", " "));

export function settingValue(key: string, value: unknown): string {
  if (typeof value === "boolean") return value ? "yes" : "no";
  if (key === "size") return capital(String(value));
  const { choices, unit } = declared(key) ?? {};
  return choices?.[String(value)] ?? `${String(value)}${!unit ? "" : unit === "°" ? unit : ` ${unit}`}`;
}
