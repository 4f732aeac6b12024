/** Strips: what each object looked like over time, cut from a few frames of the clip, drawn one under the other. */
import type { ObjectClass } from "@/api/client";
import { boxAt, isInSight, type Track } from "@/views/clips/editing/trajectory";

export const ROW = 34;
export const RULER = 20;
export const LABEL = 118;
/** Pixels of a crop along the strip. */
export const CELL = 30;

const THICKEST = 27;
/** Frames to either side on which doubt about a place is felt. */
const DOUBT = 8;

export interface StripView {
  width: number;
  height: number;
  scroll: number;
  /** First and last frame that are shown. */
  from: number;
  to: number;
}

export interface StripLook {
  rows: readonly Track[];
  selected: ReadonlySet<number>;
  frame: number;
  counts: readonly [number, number];
  times: readonly number[];
  classes: Map<number, ObjectClass>;
  /** A frame of the clip, smaller, if it is there; and how much smaller it is. */
  sample: (frame: number) => { bitmap: ImageBitmap; scale: number } | undefined;
}

export function xOf(view: StripView, frame: number): number {
  return LABEL + ((frame - view.from + 0.5) / (view.to - view.from + 1)) * (view.width - LABEL);
}

export function frameAtX(view: StripView, x: number): number {
  const share = (x - LABEL) / (view.width - LABEL);
  const frame = view.from + Math.floor(share * (view.to - view.from + 1));
  return Math.min(Math.max(frame, view.from), view.to);
}

/** The frames that crops are cut from, one a cell. */
export function sampleFrames(view: StripView): number[] {
  const count = Math.max(1, Math.floor((view.width - LABEL) / CELL));
  const all = view.to - view.from + 1;
  const found = new Set<number>();
  for (let place = 0; place < count; place += 1) found.add(view.from + Math.floor(((place + 0.5) * all) / count));
  return [...found];
}

/** How sure the box is on a frame, from 0 to 1: what a person set is, what is doubted is not. */
export function certainty(track: Track, frame: number): number {
  let doubt = Infinity;
  for (const each of track.unsure) doubt = Math.min(doubt, Math.abs(each - frame));
  if (doubt <= DOUBT) return 0.35 + 0.4 * (doubt / DOUBT);
  return track.sets.some((each) => each.origin === "hand" && Math.abs(each.frame - frame) <= DOUBT) ? 1 : 0.8;
}

export function paintStrips(context: CanvasRenderingContext2D, view: StripView, look: StripLook): void {
  context.clearRect(0, 0, view.width, view.height);
  context.font = "13px 'Source Sans 3 Variable', sans-serif";
  context.textBaseline = "middle";
  const first = Math.max(0, Math.floor(view.scroll / ROW));
  const end = Math.min(look.rows.length, Math.ceil((view.scroll + view.height - RULER) / ROW));
  for (let row = first; row < end; row += 1) {
    paintRow(context, view, look, look.rows[row]!, RULER + row * ROW - view.scroll);
  }
  paintRuler(context, view, look.times);
  paintOutside(context, view, look.counts);
  const x = xOf(view, look.frame);
  if (look.frame < view.from || look.frame > view.to) return;
  context.fillStyle = "#b5492f";
  context.fillRect(x - 0.75, 0, 1.5, view.height);
  context.beginPath();
  context.moveTo(x - 5, 0);
  context.lineTo(x + 5, 0);
  context.lineTo(x, 7);
  context.fill();
}

function paintRow(
  context: CanvasRenderingContext2D,
  view: StripView,
  look: StripLook,
  track: Track,
  top: number,
): void {
  const found = look.classes.get(track.class_id);
  const colour = found?.colour ?? "#A9B8C9";
  const chosen = look.selected.has(track.number);
  if (chosen) {
    context.fillStyle = "#e3ebf1";
    context.fillRect(0, top, view.width, ROW - 1);
  }
  const middle = top + ROW / 2 - 2;
  context.save();
  context.beginPath();
  context.rect(LABEL, top, view.width - LABEL, ROW);
  context.clip();
  const half = (view.width - LABEL) / (view.to - view.from + 1) / 2;
  const proposed = track.standing === "proposed";
  for (const [begin, last] of track.spans) {
    if (last < view.from || begin > view.to) continue;
    const left = Math.max(LABEL, xOf(view, begin) - half);
    const right = Math.min(view.width, xOf(view, last) + half);
    context.globalAlpha = proposed ? 0.25 : 0.45;
    context.fillStyle = colour;
    context.fillRect(left, middle - 8, Math.max(2, right - left), 16);
    context.globalAlpha = proposed ? 0.55 : 1;
    paintCrops(context, view, look, track, [left, right], middle);
    context.globalAlpha = 1;
    context.strokeStyle = chosen ? "#15181b" : colour;
    context.lineWidth = chosen ? 1.5 : 1;
    context.setLineDash(proposed ? [2, 3] : []);
    context.strokeRect(left + 0.5, middle - THICKEST / 2 + 0.5, Math.max(2, right - left - 1), THICKEST - 1);
    context.setLineDash([]);
  }
  for (const each of track.sets) {
    if (each.frame < view.from || each.frame > view.to) continue;
    context.beginPath();
    context.arc(xOf(view, each.frame), top + ROW - 4, each.origin === "hand" ? 3 : 2, 0, 2 * Math.PI);
    context.fillStyle = each.origin === "hand" ? "#15181b" : "#8d969e";
    context.fill();
  }
  for (const each of track.unsure) {
    if (each < view.from || each > view.to) continue;
    const x = xOf(view, each);
    context.fillStyle = "#b5492f";
    context.beginPath();
    context.moveTo(x, top + 1);
    context.lineTo(x + 4.5, top + 8);
    context.lineTo(x - 4.5, top + 8);
    context.fill();
  }
  context.restore();
  context.fillStyle = colour;
  context.fillRect(6, middle - 8, 17, 16);
  context.fillStyle = "#15181b";
  context.textAlign = "center";
  context.fillText(String(found?.position ?? "?"), 14.5, middle + 0.5);
  context.textAlign = "left";
  const name = found?.name ?? "?";
  context.fillText(name.length > 11 ? `${name.slice(0, 10)}…` : name, 29, middle + 0.5);
  context.fillStyle = "#5a6168";
  context.textAlign = "right";
  context.fillText(String(track.number), LABEL - 8, middle + 0.5);
  context.textAlign = "left";
}

/** The object's own crops along a stretch, thinner where its box is less sure. */
function paintCrops(
  context: CanvasRenderingContext2D,
  view: StripView,
  look: StripLook,
  track: Track,
  [left, right]: [number, number],
  middle: number,
): void {
  for (const frame of sampleFrames(view)) {
    const x = xOf(view, frame) - CELL / 2;
    if (x + CELL < left || x > right || !isInSight(track, frame)) continue;
    const sample = look.sample(frame);
    if (!sample) continue;
    const [x1, y1, x2, y2] = boxAt(track, frame).map((value) => value * sample.scale);
    const high = THICKEST * certainty(track, frame);
    // As much of the crop as has the cell's shape.
    const side = Math.min((x2! - x1!) / CELL, (y2! - y1!) / high);
    const [wide, tall] = [CELL * side, high * side];
    const [from, to] = [Math.max(left, x), Math.min(right, x + CELL)];
    if (to <= from || wide < 1 || tall < 1) continue;
    context.drawImage(
      sample.bitmap,
      (x1! + x2! - wide) / 2 + (from - x) * side,
      (y1! + y2! - tall) / 2,
      (to - from) * side,
      tall,
      from,
      middle - high / 2,
      to - from,
      high,
    );
  }
}

/** What counts for nothing lies under a veil. */
function paintOutside(
  context: CanvasRenderingContext2D,
  view: StripView,
  [first, last]: readonly [number, number],
): void {
  const half = (view.width - LABEL) / (view.to - view.from + 1) / 2;
  context.fillStyle = "rgba(232, 226, 208, 0.82)";
  const begin = Math.min(view.width, xOf(view, first) - half);
  const end = Math.max(LABEL, xOf(view, last) + half);
  if (begin > LABEL + 1) context.fillRect(LABEL, RULER, begin - LABEL, view.height - RULER);
  if (end < view.width - 1) context.fillRect(end, RULER, view.width - end, view.height - RULER);
}

function paintRuler(context: CanvasRenderingContext2D, view: StripView, times: readonly number[]): void {
  context.fillStyle = "#f8f5ec";
  context.fillRect(0, 0, view.width, RULER);
  context.fillStyle = "#5a6168";
  context.font = "12px 'Source Sans 3 Variable', sans-serif";
  const count = Math.max(1, Math.floor((view.width - LABEL) / 90));
  const step = [1, 2, 5, 10, 20, 25, 50, 100, 200, 250, 500, 1000, 2000, 5000, 10_000, 20_000, 50_000].find(
    (each) => (view.to - view.from + 1) / each <= count,
  );
  for (let frame = Math.ceil(view.from / (step ?? 1e5)) * (step ?? 1e5); frame <= view.to; frame += step ?? 1e5) {
    const x = xOf(view, frame);
    context.fillRect(x, RULER - 5, 1, 5);
    context.fillText(`${frame}`, x + 4, RULER - 9);
    const text = `${(times[frame] ?? 0).toFixed(1)} s`;
    context.globalAlpha = 0.75;
    context.fillText(text, x + 10 + context.measureText(String(frame)).width, RULER - 9);
    context.globalAlpha = 1;
  }
  context.font = "13px 'Source Sans 3 Variable', sans-serif";
}
