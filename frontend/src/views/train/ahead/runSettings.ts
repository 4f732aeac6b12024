/** What the person chooses for a run, kept while the page is open: for the form and for the looks ahead. */
import { reactive, watch } from "vue";

import { api, type Job, type Outcome, take } from "@/api/client";
import { AUGMENTATION, SETTINGS } from "@/api/declared";
import type { components } from "@/api/schema";
import { useProject } from "@/state/project";

type SettingsIn = components["schemas"]["SettingsIn"];
export type Augmentation = Required<components["schemas"]["AugmentationIn"]>;
export type RunSettings = Required<Omit<SettingsIn, "augmentation">> & { augmentation: Augmentation };

/** The looks ahead at a run, and what the worker says of each. */
const LOOKS = {
  anchors: "cluster_anchors",
  augmented: "draw_augmented",
  sizes: "sum_up_sizes",
  estimate: "probe_run",
} as const;
export type Look = keyof typeof LOOKS;
export type Seen<L extends Look> = Outcome<(typeof LOOKS)[L]>;

const firstOf = (declared: typeof SETTINGS): Record<string, unknown> =>
  Object.fromEntries(Object.entries(declared).map(([name, said]) => [name, said.first]));

export const firstAugmentation = (): Augmentation => firstOf(AUGMENTATION) as unknown as Augmentation;

export interface Draft {
  name: string;
  snapshotId: number | null;
  start: number | "shipped" | null;
  watched: number[];
  onCluster: boolean;
  /** By one machine of the cluster. */
  apart: boolean;
  /** Runs, each with the next seed. */
  runs: number;
  settings: RunSettings;
}

const fresh = (): Draft => ({
  name: "",
  snapshotId: null,
  start: "shipped",
  watched: [],
  onCluster: false,
  apart: false,
  runs: 1,
  settings: { ...firstOf(SETTINGS), anchors: [], augmentation: firstAugmentation() } as unknown as RunSettings,
});

const drafts = new Map<number, Draft>();

/** The project's draft of a run. */
export function useDraft(): Draft {
  const id = useProject().id;
  if (!drafts.has(id)) {
    const draft = reactive(fresh());
    // Anchors are in pixels of one side: chosen by hand for another they mean nothing.
    watch(
      () => draft.settings.side,
      () => (draft.settings.anchors = []),
    );
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
  for (const key of Object.keys(SETTINGS)) {
    if (key === "anchors" || key === "augmentation") continue;
    if (key in flat) Object.assign(draft.settings, { [key]: flat[key] });
  }
  for (const key of Object.keys(AUGMENTATION)) {
    if (key in flat) Object.assign(draft.settings.augmentation, { [key]: flat[key] });
  }
}

/** Look ahead at a run: what the worker found, or an error with its words. `started` gets the job. */
export async function lookAhead<L extends Look>(
  draft: Draft,
  look: L,
  draw = 0,
  started: (job: Job) => void = () => undefined,
): Promise<Seen<L> & { job_id: number }> {
  const store = useProject();
  const starting = take(
    api.POST("/api/v1/projects/{project_id}/looks/{look}", {
      params: { path: { project_id: store.id, look } },
      body: { snapshot_id: draft.snapshotId, settings: draft.settings, draw },
    }),
  );
  const { outcome, job } = await store.outcomeOf(LOOKS[look], starting, started);
  return { ...outcome, job_id: job.id };
}
