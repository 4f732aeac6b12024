/** Trails: the way of each object over the whole clip, drawn on the picture, with a dot where its box was set. */
import type { Layer } from "@/stage/paint";
import type { Corners, Point } from "@/stage/geometry";
import { boxAt, type Track } from "@/views/clips/editing/trajectory";

const middle = ([x1, y1, x2, y2]: Corners): Point => ({ x: (x1 + x2) / 2, y: (y1 + y2) / 2 });

interface Trail {
  /** Middles along each stretch in sight. */
  lines: Point[][];
  dots: { frame: number; at: Point; byHand: boolean }[];
}

const made = new WeakMap<Track, Trail>();

export function trailOf(track: Track): Trail {
  let trail = made.get(track);
  if (!trail) {
    const lines = track.spans.map(([first, last]) => {
      const corners = [first];
      for (const each of track.sets) {
        if (each.frame > first && each.frame < last) corners.push(each.frame);
      }
      corners.push(last);
      return corners.map((frame) => middle(boxAt(track, frame)));
    });
    const dots = track.sets.map((each) => ({
      frame: each.frame,
      at: middle(each.corners),
      byHand: each.origin === "hand",
    }));
    made.set(track, (trail = { lines, dots }));
  }
  return trail;
}

/** The frame of a dot near a point, but for that of the present frame, which lies under its box. */
export function dotAt(track: Track, point: Point, reach: number, frame: number): number | null {
  let best: { frame: number; away: number } | null = null;
  for (const dot of trailOf(track).dots) {
    const away = Math.hypot(dot.at.x - point.x, dot.at.y - point.y);
    if (dot.frame !== frame && away <= reach && (!best || away < best.away)) best = { frame: dot.frame, away };
  }
  return best?.frame ?? null;
}

export interface TrailsOptions {
  /** Faintly drawn ones, and those that are selected. */
  others: readonly Track[];
  selected: readonly Track[];
  colour: (classId: number) => string;
  frame: number;
}

export function trailsLayer({ others, selected, colour, frame }: TrailsOptions): Layer {
  return (context, view) => {
    const place = ({ x, y }: Point): [number, number] => [view.left + x * view.scale, view.top + y * view.scale];
    const lines = (track: Track, width: number): void => {
      context.lineWidth = width;
      for (const line of trailOf(track).lines) {
        context.beginPath();
        line.forEach((point, index) => (index ? context.lineTo(...place(point)) : context.moveTo(...place(point))));
        context.stroke();
      }
    };
    context.lineJoin = "round";
    context.setLineDash([]);
    for (const track of others) {
      context.globalAlpha = 0.4;
      context.strokeStyle = colour(track.class_id);
      lines(track, 1);
    }
    context.globalAlpha = 1;
    for (const track of selected) {
      context.strokeStyle = "rgba(16, 18, 20, 0.6)";
      lines(track, 4);
      context.strokeStyle = colour(track.class_id);
      lines(track, 2);
      for (const dot of trailOf(track).dots) {
        const [x, y] = place(dot.at);
        context.beginPath();
        context.arc(x, y, dot.byHand ? 5 : 3.5, 0, 2 * Math.PI);
        context.fillStyle = dot.byHand ? colour(track.class_id) : "#15181b";
        context.fill();
        context.lineWidth = 1.5;
        context.strokeStyle = dot.frame === frame ? "#fffefa" : dot.byHand ? "#15181b" : colour(track.class_id);
        context.stroke();
      }
    }
  };
}
