<script setup lang="ts">
/** A picture with boxes over it: zoom with the wheel, pan with Space or the middle button, fit with 0. */
import { onBeforeUnmount, onMounted, ref, shallowRef, toRef, watch } from "vue";

import type { Point } from "@/stage/geometry";
import { paint, type Shape } from "@/stage/paint";
import { useViewport } from "@/stage/viewport";
import { useKeys } from "@/state/keys";

const props = defineProps<{
  url: string;
  size: { width: number; height: number };
  shapes: readonly Shape[];
  cursor?: string;
  guides?: boolean;
  label: string;
}>();

/** Points are in original pixels; `reach` is how many of them make up a comfortable grip. */
const emit = defineEmits<{
  press: [point: Point, event: PointerEvent, reach: number];
  drag: [point: Point, event: PointerEvent];
  release: [point: Point, event: PointerEvent];
  hover: [point: Point, reach: number];
}>();

const frame = ref<HTMLDivElement>();
const canvas = ref<HTMLCanvasElement>();
const screen = ref({ width: 1, height: 1 });
const picture = shallowRef<HTMLImageElement | null>(null);
const failed = ref(false);
const spaceHeld = ref(false);
const panning = ref(false);
const pointer = ref<Point | null>(null);
const view = useViewport(toRef(props, "size"), screen);
let wanted = 0;
let pressed = false;

defineExpose({ view, screen });

function load(): void {
  picture.value = null;
  failed.value = false;
  const image = new Image();
  image.onload = () => {
    if (image.src.endsWith(props.url)) picture.value = image;
  };
  image.onerror = () => (failed.value = true);
  image.src = props.url;
}

function draw(): void {
  cancelAnimationFrame(wanted);
  wanted = requestAnimationFrame(() => {
    const target = canvas.value;
    const context = target?.getContext("2d");
    if (!target || !context) return;
    const ratio = window.devicePixelRatio || 1;
    const { width, height } = screen.value;
    if (target.width !== Math.round(width * ratio) || target.height !== Math.round(height * ratio)) {
      target.width = Math.round(width * ratio);
      target.height = Math.round(height * ratio);
    }
    const place = { scale: view.scale.value, left: view.left.value, top: view.top.value, width, height, ratio };
    const guide = props.guides && !panning.value && !spaceHeld.value ? pointer.value : null;
    paint(context, place, picture.value, props.size, props.shapes, guide);
  });
}

function screenPoint(event: MouseEvent): Point {
  const bounds = canvas.value!.getBoundingClientRect();
  return { x: event.clientX - bounds.left, y: event.clientY - bounds.top };
}

function reach(): number {
  return 7 / view.scale.value;
}

function down(event: PointerEvent): void {
  canvas.value?.setPointerCapture(event.pointerId);
  if (event.button === 1 || spaceHeld.value) {
    panning.value = true;
    event.preventDefault();
  } else if (event.button === 0) {
    pressed = true;
    emit("press", view.toPicture(screenPoint(event)), event, reach());
  }
}

function move(event: PointerEvent): void {
  pointer.value = screenPoint(event);
  if (panning.value) view.pan(event.movementX, event.movementY);
  else if (pressed) emit("drag", view.toPicture(pointer.value), event);
  else emit("hover", view.toPicture(pointer.value), reach());
}

function up(event: PointerEvent): void {
  if (pressed) emit("release", view.toPicture(screenPoint(event)), event);
  pressed = false;
  panning.value = false;
}

function wheel(event: WheelEvent): void {
  event.preventDefault();
  if (event.shiftKey) view.pan(-event.deltaY - event.deltaX, 0);
  else view.zoom(Math.exp(-event.deltaY * 0.0016), screenPoint(event));
}

function releaseSpace(event: KeyboardEvent): void {
  if (event.key === " ") spaceHeld.value = false;
}

let observer: ResizeObserver;
onMounted(() => {
  observer = new ResizeObserver(([entry]) => {
    if (!entry) return;
    screen.value = { width: entry.contentRect.width, height: entry.contentRect.height };
    if (view.fitted.value) view.fit();
  });
  observer.observe(frame.value!);
  window.addEventListener("keyup", releaseSpace);
  load();
});
onBeforeUnmount(() => {
  observer.disconnect();
  window.removeEventListener("keyup", releaseSpace);
  cancelAnimationFrame(wanted);
});

watch(() => props.url, () => {
  load();
  view.fit();
});
watch(
  [view.scale, view.left, view.top, screen, picture, pointer, spaceHeld, () => props.shapes],
  draw,
  { deep: true },
);

useKeys([
  { keys: ["+", "="], label: "Zoom in", run: () => view.zoom(1.3) },
  { keys: ["-"], label: "Zoom out", run: () => view.zoom(1 / 1.3) },
  { keys: ["0"], label: "Fit the picture", run: () => view.fit() },
  { keys: [" "], label: "Hold to pan with the pointer", run: () => (spaceHeld.value = true) },
]);
</script>

<template>
  <div ref="frame" class="stage">
    <canvas
      ref="canvas"
      data-test="stage"
      role="img"
      :aria-label="label"
      :data-scale="view.scale.value"
      :data-left="view.left.value"
      :data-top="view.top.value"
      :data-ready="picture !== null"
      :style="{ cursor: panning ? 'grabbing' : spaceHeld ? 'grab' : (cursor ?? 'default') }"
      @pointerdown="down"
      @pointermove="move"
      @pointerup="up"
      @pointercancel="up"
      @pointerleave="pointer = null"
      @wheel="wheel"
      @contextmenu.prevent
    />
    <p v-if="failed" class="failed">The picture could not be loaded. Its file may be missing from the data folder.</p>
    <div class="zoom">{{ Math.round(view.scale.value * 100) }} %</div>
  </div>
</template>

<style scoped>
.stage { position: relative; background: var(--stage); overflow: hidden; min-width: 0; min-height: 0; }
canvas { position: absolute; inset: 0; width: 100%; height: 100%; display: block; touch-action: none; }
.failed { position: absolute; inset: 40% 20% auto; color: var(--stage-ink); text-align: center; }
.zoom { position: absolute; right: 10px; bottom: 8px; color: var(--stage-ink); font-size: 12px; opacity: 0.85; pointer-events: none; text-shadow: 0 0 3px #000; }
</style>
