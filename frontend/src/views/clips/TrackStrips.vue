<script setup lang="ts">
/** Under the stage: a strip of its own crops for every object. Click to go there, drag its ends, Ctrl and the wheel to look closer. */
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from "vue";

import { useProject } from "@/state/project";
import { firstFrame, type Track, withEnd } from "@/views/clips/editing/trajectory";
import {
  frameAtX,
  LABEL,
  paintStrips,
  ROW,
  RULER,
  sampleFrames,
  type StripView,
  xOf,
} from "@/views/clips/editing/strips";

const props = defineProps<{
  clipId: number;
  size: { width: number; height: number };
  times: readonly number[];
  /** First and last frame that count. */
  counts: readonly [number, number];
  tracks: readonly Track[];
  selected: readonly number[];
  frame: number;
}>();
const emit = defineEmits<{
  go: [frame: number];
  select: [number: number, add: boolean];
  /** The end of a sight was dragged to a frame. */
  ends: [number: number, span: number, which: 0 | 1, frame: number];
  followTo: [frame: number];
}>();
const store = useProject();

/** Pixels within which the end of a strip is taken hold of. */
const GRIP = 5;
const SAMPLE_WIDTH = 640;
const MOST_SAMPLES = 160;
const AT_ONCE = 1;

const box = ref<HTMLDivElement>();
const canvas = ref<HTMLCanvasElement>();
const screen = ref({ width: 600, height: 180 });
const scroll = ref(0);
const shown = ref({ from: 0, to: props.times.length - 1 });
const dragged = shallowRef<{ number: number; span: number; which: 0 | 1; frame: number } | null>(null);
const cursor = ref("default");
let scrubbing = false;

const rows = computed(() => {
  const place = (track: Track): number => store.classById.get(track.class_id)?.position ?? 1e9;
  return [...props.tracks].sort((a, b) => place(a) - place(b) || firstFrame(a) - firstFrame(b) || a.number - b.number);
});
const drawn = computed(() => {
  const drag = dragged.value;
  if (!drag) return rows.value;
  return rows.value.map((track) =>
    track.number === drag.number ? withEnd(track, drag.span, drag.which, drag.frame) : track,
  );
});
const view = computed<StripView>(() => ({ ...screen.value, scroll: scroll.value, ...shown.value }));

// Frames that crops are cut from, fetched a few at a time after everything else.
const samples = new Map<number, ImageBitmap>();
const came = ref(0);
let under = 0;
let gone = false;
const scale = Math.min(1, SAMPLE_WIDTH / props.size.width);

function fetchSamples(): void {
  for (const frame of sampleFrames(view.value)) {
    if (under >= AT_ONCE) return;
    if (!samples.has(frame)) void sample(frame);
  }
}
const asked = new Set<number>();
async function sample(frame: number): Promise<void> {
  if (asked.has(frame)) return;
  asked.add(frame);
  under += 1;
  try {
    const answer = await fetch(`/api/v1/clips/${props.clipId}/frames/${frame}?width=${SAMPLE_WIDTH}`);
    if (!answer.ok) return;
    const bitmap = await createImageBitmap(await answer.blob());
    if (gone) return bitmap.close();
    samples.set(frame, bitmap);
    if (samples.size > MOST_SAMPLES) {
      const oldest = samples.keys().next().value!;
      samples.get(oldest)!.close();
      samples.delete(oldest);
      asked.delete(oldest);
    }
    came.value += 1;
  } catch {
    asked.delete(frame);
  } finally {
    under -= 1;
    if (!gone) fetchSamples();
  }
}
watch([() => shown.value.from, () => shown.value.to, () => screen.value.width], fetchSamples);

let wanted = 0;
function draw(): void {
  cancelAnimationFrame(wanted);
  wanted = requestAnimationFrame(() => {
    const target = canvas.value;
    const context = target?.getContext("2d");
    if (!target || !context) return;
    const ratio = window.devicePixelRatio || 1;
    const { width, height } = screen.value;
    if (target.width !== Math.round(width * ratio) || target.height !== Math.round(height * ratio)) {
      [target.width, target.height] = [Math.round(width * ratio), Math.round(height * ratio)];
    }
    context.setTransform(ratio, 0, 0, ratio, 0, 0);
    paintStrips(context, view.value, {
      rows: drawn.value,
      selected: new Set(props.selected),
      frame: props.frame,
      times: props.times,
      counts: props.counts,
      classes: store.classById,
      sample: (frame) => {
        const bitmap = samples.get(frame);
        return bitmap && { bitmap, scale };
      },
    });
  });
}
watch([view, drawn, () => props.counts, () => props.selected, () => props.frame, came, () => store.classById], draw, {
  deep: false,
});

// Whoever selects an object on the stage sees its strip.
watch(
  () => props.selected.at(-1),
  (number) => {
    const place = rows.value.findIndex((each) => each.number === number);
    if (place < 0 || !box.value) return;
    const room = screen.value.height - RULER;
    if (place * ROW < scroll.value) box.value.scrollTop = place * ROW;
    else if ((place + 1) * ROW > scroll.value + room) box.value.scrollTop = (place + 1) * ROW - room;
  },
);
// The frame that is shown stays within what is looked at.
watch(
  () => props.frame,
  (frame) => {
    const { from, to } = shown.value;
    if (frame >= from && frame <= to) return;
    const length = to - from;
    const begin = Math.min(Math.max(0, frame - Math.round(length / 4)), props.times.length - 1 - length);
    shown.value = { from: begin, to: begin + length };
  },
);

function at(event: PointerEvent | WheelEvent): { x: number; y: number } {
  const bounds = canvas.value!.getBoundingClientRect();
  return { x: event.clientX - bounds.left, y: event.clientY - bounds.top };
}
function rowAt(y: number): Track | undefined {
  return y < RULER ? undefined : rows.value[Math.floor((y - RULER + scroll.value) / ROW)];
}
function endAt(x: number, track: Track): { span: number; which: 0 | 1 } | null {
  for (const [span, ends] of track.spans.entries()) {
    for (const which of [0, 1] as const) {
      const half = ((screen.value.width - LABEL) / (shown.value.to - shown.value.from + 1)) * (which ? 0.5 : -0.5);
      if (Math.abs(xOf(view.value, ends[which]) + half - x) <= GRIP) return { span, which };
    }
  }
  return null;
}

function down(event: PointerEvent): void {
  if (event.button !== 0) return;
  canvas.value?.setPointerCapture(event.pointerId);
  const { x, y } = at(event);
  const track = rowAt(y);
  if (track && event.shiftKey && props.selected.includes(track.number) && x > LABEL) {
    emit("followTo", frameAtX(view.value, x));
    return;
  }
  const end = track && props.selected.includes(track.number) && x > LABEL ? endAt(x, track) : null;
  if (track && end) {
    dragged.value = { number: track.number, ...end, frame: track.spans[end.span]![end.which] };
    return;
  }
  if (track) emit("select", track.number, event.ctrlKey || event.metaKey);
  if (x > LABEL) {
    scrubbing = true;
    emit("go", frameAtX(view.value, x));
  } else if (track) emit("go", firstFrame(track));
}
function move(event: PointerEvent): void {
  const { x, y } = at(event);
  if (dragged.value) dragged.value = { ...dragged.value, frame: frameAtX(view.value, x) };
  else if (scrubbing) emit("go", frameAtX(view.value, x));
  else {
    const track = rowAt(y);
    cursor.value =
      track && props.selected.includes(track.number) && endAt(x, track)
        ? "ew-resize"
        : x > LABEL
          ? "pointer"
          : "default";
  }
}
function up(): void {
  const drag = dragged.value;
  dragged.value = null;
  scrubbing = false;
  if (drag) emit("ends", drag.number, drag.span, drag.which, drag.frame);
}

/** Look closer at, or along, what is under the pointer. */
function wheel(event: WheelEvent): void {
  const all = props.times.length;
  const { from, to } = shown.value;
  const length = to - from + 1;
  if (event.ctrlKey) {
    event.preventDefault();
    const fixed = frameAtX(view.value, at(event).x);
    const next = Math.round(Math.min(all, Math.max(Math.min(20, all), length * Math.exp(event.deltaY * 0.002))));
    const begin = Math.round(fixed - ((fixed - from) / length) * next);
    const start = Math.min(Math.max(0, begin), all - next);
    shown.value = { from: start, to: start + next - 1 };
  } else if (event.shiftKey) {
    event.preventDefault();
    const by = Math.round((event.deltaY + event.deltaX) * 0.002 * length);
    const start = Math.min(Math.max(0, from + by), all - length);
    shown.value = { from: start, to: start + length - 1 };
  }
}

let observer: ResizeObserver;
onMounted(() => {
  observer = new ResizeObserver(([entry]) => {
    if (entry) screen.value = { width: entry.contentRect.width, height: entry.contentRect.height };
  });
  observer.observe(box.value!);
  fetchSamples();
  draw();
});
onBeforeUnmount(() => {
  gone = true;
  observer.disconnect();
  cancelAnimationFrame(wanted);
  for (const each of samples.values()) each.close();
});
</script>

<template>
  <div ref="box" class="strips" @scroll="scroll = box!.scrollTop">
    <div class="tall" :style="{ height: `${RULER + rows.length * ROW}px` }">
      <canvas
        ref="canvas"
        data-test="strips"
        role="img"
        :aria-label="`Strips of ${rows.length} objects over time`"
        :data-from="shown.from"
        :data-to="shown.to"
        :data-samples="came"
        :style="{ width: `${screen.width}px`, height: `${screen.height}px`, cursor }"
        @pointerdown="down"
        @pointermove="move"
        @pointerup="up"
        @pointercancel="up"
        @wheel="wheel" />
    </div>
    <p v-if="!rows.length" class="soft empty">
      No object yet. Drag a box over one on any frame; then follow it, or set its box on a few more frames.
    </p>
  </div>
</template>

<style scoped>
.strips {
  position: relative;
  overflow-y: auto;
  overflow-x: hidden;
  border-top: 1px solid var(--rule);
  min-height: 0;
  background: var(--paper);
}
canvas {
  position: sticky;
  top: 0;
  display: block;
  touch-action: none;
}
.empty {
  position: absolute;
  inset: 44px 0 auto;
  text-align: center;
  pointer-events: none;
}
</style>
