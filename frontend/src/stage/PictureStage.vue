<script setup lang="ts">
/** A picture with boxes over it: zoom with the wheel, pan with Space or the middle button, fit with 0. */
import { computed, onBeforeUnmount, onMounted, ref, toRef, watch } from "vue";

import type { Point } from "@/stage/geometry";
import { type Layer, paint, type Pen, PEN, type Shape } from "@/stage/paint";
import { useViewport } from "@/stage/viewport";
import { useKeys } from "@/state/keys";

const props = defineProps<{
  /** Without one the picture is what the slot shows. */
  url?: string;
  size: { width: number; height: number };
  shapes: readonly Shape[];
  cursor?: string;
  guides?: boolean;
  label: string;
  pen?: Pen;
  /** Brightness and contrast of the picture in per cent; 100 leaves it as it is. */
  light?: { brightness: number; contrast: number };
  layer?: Layer;
  /** Space has another meaning in this view. */
  spaceTaken?: boolean;
}>();

/** Points are in original pixels; `reach` is how many of them make up a comfortable grip. */
const emit = defineEmits<{
  press: [point: Point, event: PointerEvent, reach: number];
  drag: [point: Point, event: PointerEvent];
  release: [point: Point, event: PointerEvent];
  hover: [point: Point, reach: number];
  /** The picture is on screen, or cannot be. */
  settled: [shown: boolean];
}>();

const frame = ref<HTMLDivElement>();
const canvas = ref<HTMLCanvasElement>();
const screen = ref({ width: 1, height: 1 });
const image = ref<HTMLImageElement>();
const ready = ref(false);
const failed = ref("");
const spaceHeld = ref(false);
const panning = ref(false);
const pointer = ref<Point | null>(null);
const view = useViewport(toRef(props, "size"), screen);
let wanted = 0;
let pressed = false;

/** The point of the picture under the pointer, or in the middle of the view. */
function here(): Point {
  return view.toPicture(pointer.value ?? { x: screen.value.width / 2, y: screen.value.height / 2 });
}

defineExpose({ here, fit: () => view.fit() });

/** The picture is a layer of its own, moved by the browser without being painted anew. */
const placed = computed(() => ({
  width: `${props.size.width}px`,
  height: `${props.size.height}px`,
  transform: `translate(${view.left.value}px, ${view.top.value}px) scale(${view.scale.value})`,
  // Single pixels stay visible when looked at closely.
  imageRendering: view.scale.value < 3 ? ("auto" as const) : ("pixelated" as const),
  filter:
    props.light && (props.light.brightness !== 100 || props.light.contrast !== 100)
      ? `brightness(${props.light.brightness}%) contrast(${props.light.contrast}%)`
      : "none",
}));

function loaded(): void {
  ready.value = !props.url || (image.value?.complete === true && image.value.naturalWidth > 0);
  if (ready.value) emit("settled", true);
}

/** A picture that does not come has a reason, which the server says to who asks again. */
async function explain(): Promise<void> {
  failed.value = "The picture could not be loaded";
  emit("settled", false);
  try {
    const answer = await fetch(props.url ?? "");
    if (!answer.ok) failed.value = ((await answer.json()) as { detail?: string }).detail ?? failed.value;
  } catch {
    failed.value = "The server cannot be reached";
  }
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
    paint(context, place, props.shapes, guide, props.pen ?? PEN, props.layer);
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
  // A box that is being drawn stays open meanwhile: it lies in the picture, not on the screen.
  if (panning.value || (pressed && spaceHeld.value)) view.pan(event.movementX, event.movementY);
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
  loaded();
});
onBeforeUnmount(() => {
  observer.disconnect();
  window.removeEventListener("keyup", releaseSpace);
  cancelAnimationFrame(wanted);
});

watch(
  () => props.url,
  () => {
    ready.value = false;
    failed.value = "";
    view.fit();
  },
);
watch(
  [view.scale, view.left, view.top, screen, pointer, spaceHeld, () => props.shapes, () => props.pen, () => props.layer],
  draw,
);

useKeys([
  { keys: ["+", "="], label: "Zoom in", run: () => view.zoom(1.3) },
  { keys: ["-"], label: "Zoom out", run: () => view.zoom(1 / 1.3) },
  { keys: ["0"], label: "Fit the picture", run: () => view.fit() },
  ...(props.spaceTaken
    ? []
    : [{ keys: [" "], label: "Hold to pan with the pointer", run: () => (spaceHeld.value = true) }]),
]);
</script>

<template>
  <div ref="frame" class="stage">
    <slot name="picture" :placed="placed" />
    <img
      v-if="url"
      v-show="ready"
      ref="image"
      class="picture"
      :src="url"
      alt=""
      draggable="false"
      :style="placed"
      @load="loaded"
      @error="explain" />
    <canvas
      ref="canvas"
      data-test="stage"
      role="img"
      :aria-label="label"
      :data-scale="view.scale.value"
      :data-left="view.left.value"
      :data-top="view.top.value"
      :data-ready="ready"
      :style="{ cursor: panning ? 'grabbing' : spaceHeld ? 'grab' : (cursor ?? 'default') }"
      @pointerdown="down"
      @pointermove="move"
      @pointerup="up"
      @pointercancel="up"
      @pointerleave="pointer = null"
      @wheel="wheel"
      @contextmenu.prevent />
    <p v-if="failed" class="failed" data-test="stage-failed">{{ failed }}</p>
    <div class="zoom">{{ Math.round(view.scale.value * 100) }} %</div>
  </div>
</template>

<style scoped>
.stage {
  position: relative;
  background: var(--stage);
  overflow: hidden;
  min-width: 0;
  min-height: 0;
}
canvas {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  display: block;
  touch-action: none;
}
.picture {
  position: absolute;
  left: 0;
  top: 0;
  transform-origin: 0 0;
  max-width: none;
  user-select: none;
}
.failed {
  position: absolute;
  inset: 40% 20% auto;
  color: var(--stage-ink);
  text-align: center;
}
.zoom {
  position: absolute;
  right: 10px;
  bottom: 8px;
  color: var(--stage-ink);
  font-size: 12px;
  opacity: 0.85;
  pointer-events: none;
  text-shadow: 0 0 3px #000;
}
</style>
