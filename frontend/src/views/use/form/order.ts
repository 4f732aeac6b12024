/** What a detection run is to do, as the form holds it. */
import { CONSTANTS } from "@/api/declared";
import type { Suppression } from "@/views/anatomy/suppressions";

export type Copies = "boxes" | "blurred" | "pixelated" | "filled" | "none";

export interface RunOrder {
  /** Of all classes; null where the model's own are taken. */
  minimum_score: number | null;
  /** Of single classes. */
  minimum_scores: Record<string, number>;
  overlap_limit: number;
  suppression: Suppression;
  only: string[];
  region: [number, number][];
  every: number;
  a_second: number | null;
  tile: number | null;
  copies: Copies;
  beside: boolean;
  crops: boolean;
  on_cluster: boolean;
  /** In pictures of more than 8 bits; null where it is found out. */
  white: number | null;
}

export function freshOrder(): RunOrder {
  return {
    minimum_score: null,
    minimum_scores: {},
    overlap_limit: CONSTANTS.overlap_limit,
    suppression: "by class",
    only: [],
    region: [],
    every: 1,
    a_second: null,
    tile: null,
    copies: "boxes",
    beside: false,
    crops: false,
    on_cluster: false,
    white: null,
  };
}
