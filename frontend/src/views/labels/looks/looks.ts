/** How pictures and boxes are shown while labelling; remembered by the browser. */
import { remembered } from "@/state/remembered";

export interface Looks {
  width: number;
  badge: "number" | "name" | "none";
  faint: number;
  brightness: number;
  contrast: number;
  /** Tighten every box as soon as it is drawn. */
  tighten: boolean;
}

export const FIRST_LOOKS: Looks = {
  width: 1.8,
  badge: "number",
  faint: 0.3,
  brightness: 100,
  contrast: 100,
  tighten: false,
};

export const looks = remembered<Looks>("looks", { ...FIRST_LOOKS });
