/** What a crop shows of a picture: the square around a box with a little surrounding, as the server cuts it. */
import { CONSTANTS } from "@/api/declared";

export type Corners = readonly number[];

/** The least box that holds both. */
export function both(one: Corners, other: Corners): number[] {
  return [0, 1, 2, 3].map((each) => (each < 2 ? Math.min : Math.max)(one[each]!, other[each]!));
}

/** Left, top, width and height of the square, in pixels of the picture. */
export function squareAround([x1, y1, x2, y2]: Corners): [number, number, number, number] {
  const side = Math.max(x2! - x1!, y2! - y1!) * (1 + 2 * CONSTANTS.crop_around);
  return [(x1! + x2! - side) / 2, (y1! + y2! - side) / 2, side, side];
}
