/** Settings as people call them, and their values as people read them. */
import { capital } from "@/parts/format";

const NAMES: Record<string, string> = {
  size: "Size", side: "Side", epochs: "Epochs", batch: "Batch", passes: "Passes", seed: "Seed", learning_rate: "Learning rate",
  optimizer: "Optimiser", warm_up: "Warm-up", schedule: "Schedule", weight_decay: "Weight decay", multi_scale: "Multi-scale",
  patience: "Patience", average: "Averaging", box_weight: "Box loss", objectness_weight: "Object loss", class_weight: "Class loss",
  number_format: "Numbers", best_by: "Best by", keep_every: "Keep every", freeze_backbone: "Frozen", anchors: "Anchors",
  extended: "Extended by", flips: "Mirrored", scale_least: "Smallest", scale_most: "Largest", shift: "Shift", turn: "Turn", light: "Light",
  hue: "Hue", saturation: "Saturation", blur: "Blur", collage: "Collage", copy_in: "Copied objects", starting_weights: "Started from", snapshot: "Snapshot",
};
const VALUES: Record<string, string> = { adamw: "AdamW", sgd: "SGD", map: "mAP 0.50:0.95", map50: "mAP 0.5", none: "nothing", all: "every way" };

export const settingName = (key: string): string => NAMES[key] ?? capital(key.replaceAll("_", " "));

export function settingValue(key: string, value: unknown): string {
  if (typeof value === "boolean") return value ? "yes" : "no";
  if (key === "size") return capital(String(value));
  if (key === "side") return `${String(value)} px`;
  return VALUES[String(value)] ?? String(value);
}
