/** What the person chooses for a run, kept while the page is open: for the form and for the looks ahead. */
import { reactive, watch } from "vue";

import type { components } from "@/api/schema";
import { api, type Job, take } from "@/api/client";
import { useProject } from "@/state/project";

type SettingsIn = components["schemas"]["SettingsIn"];
export type Augmentation = Required<components["schemas"]["AugmentationIn"]>;
export type RunSettings = Required<Omit<SettingsIn, "augmentation">> & { augmentation: Augmentation };
export type Look = "anchors" | "augmented" | "sizes" | "estimate";

export const AUGMENTATION: Augmentation = {
  flips: null, scale_least: 0.75, scale_most: 1.35, shift: 1, turn: 0, light: 0.2,
  hue: 0, saturation: 0, blur: 0, collage: 0.5, copy_in: 0,
};

const FIRST: Omit<RunSettings, "augmentation"> = {
  size: "stint", side: 416, epochs: null, batch: 8, passes: null, seed: 0, learning_rate: 0.003, optimizer: "adamw",
  warm_up: 0.05, schedule: "cosine", weight_decay: 0.02, multi_scale: false, patience: 0, average: 0.998,
  box_weight: 2, objectness_weight: 1, class_weight: 1, number_format: "auto", best_by: "map", keep_every: 0,
  freeze_backbone: false, anchors: [],
};

export interface Draft {
  name: string;
  snapshotId: number | null;
  start: number | "shipped" | null;
  watched: number[];
  settings: RunSettings;
}

const fresh = (): Draft => ({
  name: "",
  snapshotId: null,
  start: "shipped",
  watched: [],
  settings: { ...FIRST, anchors: [], augmentation: { ...AUGMENTATION } },
});

const drafts = new Map<number, Draft>();

/** The project's draft of a run. */
export function useDraft(): Draft {
  const id = useProject().id;
  if (!drafts.has(id)) {
    const draft = reactive(fresh());
    // Anchors are in pixels of one side: chosen by hand for another they mean nothing.
    watch(() => draft.settings.side, () => (draft.settings.anchors = []));
    drafts.set(id, draft);
  }
  return drafts.get(id)!;
}

/** Everything as it was at first. */
export function resetDraft(draft: Draft): void {
  Object.assign(draft, fresh());
}

/** Take the settings of an earlier run for the next one. */
export function copySettings(draft: Draft, flat: Record<string, unknown>): void {
  for (const key of Object.keys(FIRST)) {
    if (key === "anchors") continue;
    if (key in flat) Object.assign(draft.settings, { [key]: flat[key] });
  }
  for (const key of Object.keys(AUGMENTATION)) {
    if (key in flat) Object.assign(draft.settings.augmentation, { [key]: flat[key] });
  }
}

/** Look ahead at a run: what the worker found, or an error with its words. `started` gets the job. */
export async function lookAhead<T>(draft: Draft, look: Look, draw = 0, started: (job: Job) => void = () => undefined): Promise<T & { job_id: number }> {
  const store = useProject();
  const answer = await take(
    api.POST("/api/v1/projects/{project_id}/looks/{look}", {
      params: { path: { project_id: store.id, look } },
      body: { snapshot_id: draft.snapshotId, settings: draft.settings, draw },
    }),
  );
  started(answer.job);
  const job = await store.ended(answer.job.id);
  if (job.state !== "done") throw new Error(job.message || `The look was ${job.state}`);
  return { ...(job.outcome as T), job_id: job.id };
}
