/** What to measure, as the server takes it. */
import { api, type Evaluation, take } from "@/api/client";
import { CONSTANTS } from "@/api/declared";

export interface MeasureOrder {
  run_id: number | null;
  ensemble_id: number | null;
  checkpoint: string;
  snapshot_id: number | null;
  part: "training" | "validation" | "test" | null;
  interpolation: "101-point" | "11-point" | "exact-area";
  areas: [number, number];
  class_map: Record<string, string>;
  on_cluster: boolean;
}

export function freshOrder(): MeasureOrder {
  return {
    run_id: null,
    ensemble_id: null,
    checkpoint: "best",
    snapshot_id: null,
    part: "validation",
    interpolation: "101-point",
    areas: CONSTANTS.area_bounds,
    class_map: {},
    on_cluster: false,
  };
}

export function measure(projectId: number, order: Partial<MeasureOrder>): Promise<Evaluation> {
  return take(
    api.POST("/api/v1/projects/{project_id}/evaluations", {
      params: { path: { project_id: projectId } },
      body: { ...freshOrder(), ...order },
    }),
  );
}
