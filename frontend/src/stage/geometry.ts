/** Boxes under the pointer: hits, handles, moving and resizing. All in original pixels. */

/** x1, y1, x2, y2 in pixels of the original picture. */
export type Corners = [number, number, number, number];

export interface Point {
  x: number;
  y: number;
}

/** Which edges a handle moves: -1 the first, 1 the second, 0 none, in x and in y. */
export interface Handle {
  x: -1 | 0 | 1;
  y: -1 | 0 | 1;
}

export function upright([x1, y1, x2, y2]: Corners): Corners {
  return [Math.min(x1, x2), Math.min(y1, y2), Math.max(x1, x2), Math.max(y1, y2)];
}

export function inside([x1, y1, x2, y2]: Corners, { x, y }: Point, margin = 0): boolean {
  return x >= x1 - margin && x <= x2 + margin && y >= y1 - margin && y <= y2 + margin;
}

export function boxArea([x1, y1, x2, y2]: Corners): number {
  return Math.max(0, x2 - x1) * Math.max(0, y2 - y1);
}

/** Intersection over union of two upright boxes. */
export function overlap(a: Corners, b: Corners): number {
  const width = Math.min(a[2], b[2]) - Math.max(a[0], b[0]);
  const height = Math.min(a[3], b[3]) - Math.max(a[1], b[1]);
  const both = Math.max(width, 0) * Math.max(height, 0);
  return both ? both / (boxArea(a) + boxArea(b) - both) : 0;
}

/** Indices of the boxes under a point, the smallest first, so that a box inside another can be reached. */
export function hits(boxes: readonly Corners[], point: Point, margin = 0): number[] {
  return boxes
    .flatMap((box, index) => (inside(box, point, margin) ? index : []))
    .sort((a, b) => boxArea(boxes[a]!) - boxArea(boxes[b]!));
}

/** Index of the smallest box under a point; -1 if none. */
export function hit(boxes: readonly Corners[], point: Point, margin: number): number {
  return hits(boxes, point, margin)[0] ?? -1;
}

/** The handle of a box near a point, if any: its edges within `margin` pixels. */
export function handleAt(box: Corners, point: Point, margin: number): Handle | null {
  if (!inside(box, point, margin)) return null;
  // Inside, an edge reaches a third of the way at most, so that a small box can still be moved by its middle.
  const near = (value: number, first: number, second: number): -1 | 0 | 1 => {
    const inner = Math.min(margin, (second - first) / 3);
    if (value - first <= inner && value - first <= second - value) return -1;
    return second - value <= inner ? 1 : 0;
  };
  const handle: Handle = { x: near(point.x, box[0], box[2]), y: near(point.y, box[1], box[3]) };
  return handle.x || handle.y ? handle : null;
}

export function cursorOf(handle: Handle): string {
  if (!handle.x) return "ns-resize";
  if (!handle.y) return "ew-resize";
  return handle.x === handle.y ? "nwse-resize" : "nesw-resize";
}

/** The box with the handle's edges moved to a point. */
export function resized(box: Corners, handle: Handle, point: Point): Corners {
  const next: Corners = [...box];
  if (handle.x) next[handle.x < 0 ? 0 : 2] = point.x;
  if (handle.y) next[handle.y < 0 ? 1 : 3] = point.y;
  return upright(next);
}

/** The box moved, but kept within the picture as a whole. */
export function moved([x1, y1, x2, y2]: Corners, dx: number, dy: number, width: number, height: number): Corners {
  const stepX = Math.min(Math.max(dx, -x1), width - x2);
  const stepY = Math.min(Math.max(dy, -y1), height - y2);
  return [x1 + stepX, y1 + stepY, x2 + stepX, y2 + stepY];
}

/** The box cut to the picture, on tenths of a pixel. */
export function cut(box: Corners, width: number, height: number): Corners {
  const tenth = (value: number, most: number): number => Math.round(Math.min(Math.max(value, 0), most) * 10) / 10;
  const [x1, y1, x2, y2] = upright(box);
  return [tenth(x1, width), tenth(y1, height), tenth(x2, width), tenth(y2, height)];
}
