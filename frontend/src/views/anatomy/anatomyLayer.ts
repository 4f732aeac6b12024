/** What Anatomy draws between picture and boxes: cells, heat, likeliest classes, anchors. */
import type { Anatomy, Arithmetic } from "@/api/client";
import type { Corners } from "@/stage/geometry";
import type { Layer, View } from "@/stage/paint";

export type Tint = "objectness" | "class" | "none";

export interface Cell {
  level: number;
  row: number;
  column: number;
  anchor: number;
}

/** Pixels of the input as pixels of the picture. */
export function toPicture(anatomy: Anatomy, [x1, y1, x2, y2]: readonly number[]): Corners {
  const [sx, sy] = anatomy.scale;
  const [left, top] = anatomy.offset;
  return [(x1! - left) / sx, (y1! - top) / sy, (x2! - left) / sx, (y2! - top) / sy];
}

export function cellCorners(anatomy: Anatomy, { level, row, column }: Cell): Corners {
  const stride = anatomy.levels[level]!.stride;
  return toPicture(anatomy, [column * stride, row * stride, (column + 1) * stride, (row + 1) * stride]);
}

/** The cell under a point of the picture, with its most certain anchor. */
export function cellAt(anatomy: Anatomy, level: number, x: number, y: number): Cell | null {
  const grid = anatomy.levels[level]!;
  const column = Math.floor((x * anatomy.scale[0] + anatomy.offset[0]) / grid.stride);
  const row = Math.floor((y * anatomy.scale[1] + anatomy.offset[1]) / grid.stride);
  if (row < 0 || column < 0 || row >= grid.rows || column >= grid.columns || !grid.anchors.length) return null;
  return { level, row, column, anchor: grid.best_anchor[row * grid.columns + column]! };
}

/** Corners of an anchor laid about the middle of its cell. */
export function anchorCorners(anatomy: Anatomy, cell: Cell, anchor = cell.anchor): Corners {
  const { stride, anchors } = anatomy.levels[cell.level]!;
  const [width, height] = anchors[anchor]!;
  const x = (cell.column + 0.5) * stride;
  const y = (cell.row + 0.5) * stride;
  return toPicture(anatomy, [x - width / 2, y - height / 2, x + width / 2, y + height / 2]);
}

/** The box as far as the arithmetic has come: anchor in its cell, moved, sized, cut to the picture. */
export function builtUp(anatomy: Anatomy, cell: Cell, made: Arithmetic, step: number): Corners {
  if (step <= 0) return anchorCorners(anatomy, cell);
  const [x, y] = made.centre;
  const [width, height] = step === 1 ? made.anchor : made.size;
  if (step < 3) return toPicture(anatomy, [x - width / 2, y - height / 2, x + width / 2, y + height / 2]);
  return made.in_picture as unknown as Corners;
}

interface Wanted {
  level: number;
  tint: Tint;
  grid: boolean;
  cell: Cell | null;
  allAnchors: boolean;
  colours: string[];
}

export function anatomyLayer(anatomy: Anatomy, wanted: Wanted): Layer {
  return (context, view) => {
    const grid = anatomy.levels[wanted.level]!;
    for (let row = 0; grid.anchors.length && row < grid.rows; row++) {
      for (let column = 0; column < grid.columns; column++) {
        const place = row * grid.columns + column;
        const heat = grid.objectness[place]!;
        const [x, y, width, height] = onScreen(
          view,
          cellCorners(anatomy, { level: wanted.level, row, column, anchor: 0 }),
        );
        if (wanted.tint === "objectness" && heat > 0.005) {
          context.globalAlpha = 0.12 + 0.68 * heat;
          context.fillStyle = heatColour(heat);
          context.fillRect(x, y, width, height);
        } else if (wanted.tint === "class") {
          context.globalAlpha = 0.1 + 0.65 * heat;
          context.fillStyle = wanted.colours[grid.best_class[place]!] ?? "#a9b8c9";
          context.fillRect(x, y, width, height);
        }
        if (wanted.grid) {
          context.globalAlpha = 0.3;
          context.strokeStyle = "#f8f5ec";
          context.lineWidth = 0.7;
          context.strokeRect(x, y, width, height);
        }
      }
    }
    context.globalAlpha = 1;
    if (!wanted.cell) return;
    if (wanted.allAnchors) {
      anatomy.levels[wanted.cell.level]!.anchors.forEach((_, anchor) => {
        outline(
          context,
          view,
          anchorCorners(anatomy, wanted.cell!, anchor),
          "#c9b79c",
          anchor === wanted.cell!.anchor ? 2 : 1.2,
        );
      });
    }
    outline(context, view, cellCorners(anatomy, wanted.cell), "#f8f5ec", 2);
  };
}

/** From sand over brick to white-hot, darker being less certain. */
function heatColour(heat: number): string {
  const from = heat < 0.5 ? [74, 115, 151] : [201, 183, 156];
  const to = heat < 0.5 ? [201, 183, 156] : [214, 84, 52];
  const part = heat < 0.5 ? heat * 2 : heat * 2 - 1;
  return `rgb(${from.map((value, index) => Math.round(value + (to[index]! - value) * part)).join(",")})`;
}

function outline(context: CanvasRenderingContext2D, view: View, corners: Corners, colour: string, width: number): void {
  const [x, y, wide, high] = onScreen(view, corners);
  context.lineWidth = width + 1.6;
  context.strokeStyle = "rgba(16, 18, 20, 0.6)";
  context.strokeRect(x, y, wide, high);
  context.lineWidth = width;
  context.strokeStyle = colour;
  context.strokeRect(x, y, wide, high);
}

function onScreen(view: View, [x1, y1, x2, y2]: Corners): [number, number, number, number] {
  return [view.left + x1 * view.scale, view.top + y1 * view.scale, (x2 - x1) * view.scale, (y2 - y1) * view.scale];
}
