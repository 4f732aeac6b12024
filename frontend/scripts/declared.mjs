// Writes src/api/declared.ts: what the server's document says of the settings of a training and of constants,
// so that each is declared once, in the server.
import { readFileSync, writeFileSync } from "node:fs";

const document = JSON.parse(readFileSync("openapi.json", "utf8"));
const settings = document["x-settings"];

function declared(name) {
  const fields = {};
  for (const [key, said] of Object.entries(settings[name])) {
    const bounds = said.anyOf?.find((each) => each.type !== "null") ?? said;
    if (said.$ref || said.allOf) continue;
    fields[key] = {
      title: said.title,
      says: said.description ?? "",
      first: said.default ?? null,
      least:
        bounds.minimum ??
        (bounds.exclusiveMinimum === undefined ? undefined : bounds.exclusiveMinimum + said["x-step"] / 1000),
      most: bounds.maximum,
      step: said["x-step"],
      unit: said["x-unit"],
      choices: said["x-choices"],
    };
  }
  return fields;
}

const text = (name, value, type) => `export const ${name}: ${type} = ${JSON.stringify(value, null, 2)};\n`;
writeFileSync(
  "src/api/declared.ts",
  `/** Made from the server's document by \`npm run types\`; not to be edited. */

export interface Declared {
  title: string;
  says: string;
  first: unknown;
  least?: number;
  most?: number;
  step?: number;
  unit?: string;
  choices?: Record<string, string>;
}

${text("SETTINGS", declared("SettingsIn"), "Record<string, Declared>")}
${text("AUGMENTATION", declared("AugmentationIn"), "Record<string, Declared>")}
${text("CONSTANTS", document["x-constants"], "{ enough_detections: number; minimum_score: number; side: number; overlap_limit: number; fusion_iou: number; learnable: number; resolved: number; enough_resolved: number; area_bounds: [number, number]; crop_around: number; split: [number, number, number] }")}`,
);
