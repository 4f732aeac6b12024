/** Painting the boxes over the picture: lines, badges, marks, guides. */
import type { Corners } from "@/stage/geometry";

export type Mark = "hit" | "miss" | "false_alarm" | "ignored";

export interface Shape {
  corners: Corners;
  colour: string;
  /** Truth is drawn in its own broken line, everything else in a full one. */
  truth?: boolean;
  /** Text on the badge: the class number, with a score where there is one. */
  badge?: string;
  mark?: Mark;
  selected?: boolean;
  /** Has handles: of several selected ones only the last. */
  gripped?: boolean;
  faint?: boolean;
  /** Only an outline to be taken over, or one that is being drawn. */
  ghost?: boolean;
}

/** How boxes are drawn; chosen by the person. */
export interface Pen {
  width: number;
  /** How strongly faint boxes are drawn, from 0 to 1. */
  faint: number;
}

export const PEN: Pen = { width: 1.8, faint: 0.35 };

export interface View {
  scale: number;
  left: number;
  top: number;
  width: number;
  height: number;
  ratio: number;
}

/** Something drawn between picture and boxes. */
export type Layer = (context: CanvasRenderingContext2D, view: View) => void;

const INK = "#15181b";
const PAPER = "#f8f5ec";
/** Truths over a picture are broken lines of this colour; predictions are full lines in their class's. */
export const TRUTH = "#fffefa";
const TRUTH_DASH = [6, 4];
const GOOD = "#9dbb80";
const BAD = "#f08a6c";

export function paint(
  context: CanvasRenderingContext2D,
  view: View,
  shapes: readonly Shape[],
  guide: { x: number; y: number } | null,
  pen: Pen = PEN,
  layer?: Layer,
): void {
  context.setTransform(view.ratio, 0, 0, view.ratio, 0, 0);
  context.clearRect(0, 0, view.width, view.height);
  layer?.(context, view);
  for (const shape of shapes) if (!shape.selected) paintShape(context, view, shape, pen);
  for (const shape of shapes) if (shape.selected) paintShape(context, view, shape, pen);
  if (guide) paintGuide(context, view, guide);
}

function paintShape(context: CanvasRenderingContext2D, view: View, shape: Shape, pen: Pen): void {
  const [x1, y1, x2, y2] = shape.corners;
  const x = view.left + x1 * view.scale;
  const y = view.top + y1 * view.scale;
  const width = (x2 - x1) * view.scale;
  const height = (y2 - y1) * view.scale;
  if (x > view.width || y > view.height || x + width < 0 || y + height < 0) return;
  context.globalAlpha = shape.faint ? pen.faint : 1;
  if (shape.faint && !pen.faint) return;
  context.setLineDash([]);
  const line = pen.width + (shape.selected ? 0.7 : 0);
  context.lineWidth = line + 1.8;
  context.strokeStyle = "rgba(16, 18, 20, 0.55)";
  context.strokeRect(x, y, width, height);
  context.lineWidth = line;
  context.strokeStyle = shape.truth ? TRUTH : shape.colour;
  if (shape.truth) context.setLineDash(TRUTH_DASH);
  if (shape.ghost) context.setLineDash([2, 4]);
  context.strokeRect(x, y, width, height);
  context.setLineDash([]);
  if (shape.selected) {
    context.fillStyle = shape.colour;
    context.globalAlpha = 0.12;
    context.fillRect(x, y, width, height);
    context.globalAlpha = 1;
    if (shape.gripped) paintHandles(context, x, y, width, height, shape.colour);
  }
  if (shape.badge) paintBadge(context, view, shape, x, y, width, height);
  if (shape.mark && shape.mark !== "ignored")
    paintMark(context, shape.mark, x + width, y, Boolean(shape.truth), height);
  context.globalAlpha = 1;
}

function paintHandles(
  context: CanvasRenderingContext2D,
  x: number,
  y: number,
  width: number,
  height: number,
  colour: string,
): void {
  context.lineWidth = 1.5;
  context.strokeStyle = INK;
  context.fillStyle = colour;
  for (const across of [0, 0.5, 1]) {
    for (const down of [0, 0.5, 1]) {
      if (across === 0.5 && down === 0.5) continue;
      context.beginPath();
      context.arc(x + across * width, y + down * height, 4.5, 0, 2 * Math.PI);
      context.fill();
      context.stroke();
    }
  }
}

const widths = new Map<string, number>();

/** Measuring text is slow, and badges say the same few things. */
function textWidth(context: CanvasRenderingContext2D, text: string): number {
  let width = widths.get(text);
  if (width === undefined) {
    if (widths.size > 5000) widths.clear();
    widths.set(text, (width = context.measureText(text).width));
  }
  return width;
}

function paintBadge(
  context: CanvasRenderingContext2D,
  view: View,
  shape: Shape,
  x: number,
  y: number,
  width: number,
  height: number,
): void {
  context.font = "600 12px 'Source Sans 3 Variable', sans-serif";
  context.textBaseline = "middle";
  context.textAlign = "left";
  const text = shape.badge ?? "";
  const wide = textWidth(context, text) + 9;
  // Truths carry the badge at the foot and predictions at the head, so that both can be read.
  const left = Math.max(0, Math.min(x, view.width - wide));
  const place = shape.truth ? Math.min(y + height, view.height - 17) : Math.max(0, y - 17 < 0 ? y : y - 17);
  context.fillStyle = shape.colour;
  context.fillRect(left, place, Math.min(wide, Math.max(wide, width)), 17);
  context.fillStyle = INK;
  context.fillText(text, left + 4.5, place + 9);
}

function paintMark(
  context: CanvasRenderingContext2D,
  mark: Mark,
  right: number,
  top: number,
  low: boolean,
  height: number,
): void {
  const x = right;
  const y = low ? top + height : top;
  context.beginPath();
  context.arc(x, y, 9, 0, 2 * Math.PI);
  context.fillStyle = INK;
  context.fill();
  context.lineWidth = 1.5;
  context.strokeStyle = mark === "hit" ? GOOD : BAD;
  context.stroke();
  context.lineWidth = 2;
  context.beginPath();
  if (mark === "hit") {
    context.moveTo(x - 4, y);
    context.lineTo(x - 1, y + 3.5);
    context.lineTo(x + 4, y - 3.5);
  } else if (mark === "false_alarm") {
    context.moveTo(x - 3.5, y - 3.5);
    context.lineTo(x + 3.5, y + 3.5);
    context.moveTo(x + 3.5, y - 3.5);
    context.lineTo(x - 3.5, y + 3.5);
  } else {
    context.arc(x, y, 3.5, 0, 2 * Math.PI);
  }
  context.stroke();
}

function paintGuide(context: CanvasRenderingContext2D, view: View, guide: { x: number; y: number }): void {
  context.lineWidth = 1;
  context.strokeStyle = PAPER;
  context.globalAlpha = 0.45;
  context.beginPath();
  context.moveTo(guide.x + 0.5, 0);
  context.lineTo(guide.x + 0.5, view.height);
  context.moveTo(0, guide.y + 0.5);
  context.lineTo(view.width, guide.y + 0.5);
  context.stroke();
  context.globalAlpha = 1;
}
