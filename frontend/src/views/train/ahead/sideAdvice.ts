/** What to say of an input side, from how many boxes are too small at each. */
import type { Plan } from "@/api/client";
import { CONSTANTS } from "@/api/declared";

const percent = (share: number): string => `${(100 * share).toFixed(0)} %`;

/** Whether a side suits the boxes, and what the next larger one would bring. */
export function sideAdvice(plan: Plan, side: number): string {
  if (!plan.sized) return "Which side suits your boxes is told here once there are some.";
  return [verdict(plan, side), next(plan, side)].filter(Boolean).join(" ");
}

/** Two sides that short runs can decide between: boxes alone do not tell how much a larger one gains. */
export function sideTrial(plan: Plan, side: number): [number, number] | null {
  if (!plan.sized) return null;
  const possible = plan.sides.map((each) => each.side).filter((each) => each <= plan.own_side);
  const above = possible.find((each) => each > plan.advised_side);
  const below = possible.filter((each) => each < plan.advised_side).at(-1);
  const other = side === plan.advised_side ? (above ?? below) : side;
  if (other === undefined) return null;
  return other < plan.advised_side ? [other, plan.advised_side] : [plan.advised_side, other];
}

function verdict(plan: Plan, side: number): string {
  const px = `${CONSTANTS.resolved} pixels`;
  const small = smallAt(plan, plan.advised_side);
  if (small > CONSTANTS.enough_resolved) {
    // Not even the largest that is advised suits them.
    return side === plan.advised_side
      ? `Side ${side} is the largest advised for these pictures; ${percent(small)} of the boxes are still under ${px} there.`
      : `${percent(smallAt(plan, side))} of the boxes are under ${px} here, ${percent(small)} at side ${plan.advised_side}, the largest advised for these pictures.`;
  }
  if (side === plan.advised_side) return `Side ${side} suits these boxes: nearly all are ${px} or more.`;
  if (side > plan.advised_side)
    return `Side ${plan.advised_side} would do: nearly all boxes are ${px} or more there, and it is quicker.`;
  return `Many boxes are small here; side ${plan.advised_side} suits them.`;
}

function next(plan: Plan, side: number): string {
  const here = plan.sides.findIndex((each) => each.side === side);
  const [now, larger] = [plan.sides[here], plan.sides[here + 1]];
  if (!now || !larger) return "";
  if (larger.side > plan.own_side)
    return `Most pictures have a longer side of ${plan.own_side} pixels or less; a larger input side adds no detail.`;
  const gained = now.small - larger.small;
  const times = `${larger.cost.toFixed(1)} times the time`;
  return gained > 0.005
    ? `Side ${larger.side} would bring ${percent(gained)} of the boxes above ${CONSTANTS.resolved} pixels, for ${times}.`
    : `Side ${larger.side} would cost ${times} and lift hardly any box above ${CONSTANTS.resolved} pixels.`;
}

function smallAt(plan: Plan, side: number): number {
  return plan.sides.find((each) => each.side === side)?.small ?? 0;
}
