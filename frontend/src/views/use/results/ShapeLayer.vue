<script setup lang="ts">
/** Lines and regions that objects are counted by, over the picture: shown, and drawn with the pointer. */
import { computed, ref } from "vue";

import type { Counted } from "@/api/client";

const props = defineProps<{
  size: { width: number; height: number };
  counted: Counted[];
  drawing: "line" | "region" | null;
  chosen: number | null;
}>();
const emit = defineEmits<{ drawn: [points: [number, number][]] }>();
const points = ref<[number, number][]>([]);
const pointer = ref<[number, number] | null>(null);
const unit = computed(() => Math.max(props.size.width, props.size.height) / 100);

function here(event: PointerEvent): [number, number] {
  const place = (event.currentTarget as Element).getBoundingClientRect();
  const share = (value: number): number => Math.min(Math.max(value, 0), 1);
  return [share((event.clientX - place.left) / place.width), share((event.clientY - place.top) / place.height)];
}
function press(event: PointerEvent): void {
  if (!props.drawing) return;
  (event.currentTarget as Element).setPointerCapture(event.pointerId);
  const at = here(event);
  if (props.drawing === "line") points.value = [at];
  else if (points.value.length > 2 && near(at, points.value[0]!)) finish();
  else points.value.push(at);
  pointer.value = at;
}
function move(event: PointerEvent): void {
  if (props.drawing && points.value.length) pointer.value = here(event);
}
function release(event: PointerEvent): void {
  if (props.drawing !== "line" || !points.value.length) return;
  const at = here(event);
  if (near(at, points.value[0]!)) points.value = [];
  else {
    points.value.push(at);
    finish();
  }
}
function near(a: [number, number], b: [number, number]): boolean {
  return Math.hypot((a[0] - b[0]) * props.size.width, (a[1] - b[1]) * props.size.height) < 2 * unit.value;
}
/** A region is closed with its first corner, a double click or Enter. */
function finish(): void {
  const made = points.value.filter((each, index, all) => index === 0 || !near(each, all[index - 1]!));
  points.value = [];
  pointer.value = null;
  if (made.length >= (props.drawing === "line" ? 2 : 3)) emit("drawn", made);
}
function forget(): void {
  points.value = [];
  pointer.value = null;
}
defineExpose({ finish, forget });

const place = ([x, y]: readonly number[]): string => `${x! * props.size.width},${y! * props.size.height}`;
const path = (all: readonly (readonly number[])[]): string => all.map(place).join(" ");
/** Where the names of a line's sides stand: to the left and to the right of its middle, looking along it. */
function beside(shape: Counted["shape"], left: boolean): { x: number; y: number } {
  const [a, b] = shape.points.map(([x, y]) => [x * props.size.width, y * props.size.height]) as [number[], number[]];
  const along = [b[0]! - a[0]!, b[1]! - a[1]!];
  const length = Math.hypot(along[0]!, along[1]!) || 1;
  const out = (left ? 1 : -1) * 2.6 * unit.value;
  return {
    x: (a[0]! + b[0]!) / 2 + (along[1]! / length) * out,
    y: (a[1]! + b[1]!) / 2 - (along[0]! / length) * out + unit.value * 0.6,
  };
}
const total = (counts: Record<string, number>): number => Object.values(counts).reduce((sum, each) => sum + each, 0);
</script>

<template>
  <svg
    class="shapes"
    :class="{ drawing }"
    :viewBox="`0 0 ${size.width} ${size.height}`"
    data-test="shapes"
    @pointerdown="press"
    @pointermove="move"
    @pointerup="release"
    @dblclick="finish">
    <g v-for="(each, index) in counted" :key="index" :class="{ chosen: index === chosen }" data-test="shape">
      <template v-if="each.shape.kind === 'line'">
        <polyline class="casing" :points="path(each.shape.points)" />
        <polyline :points="path(each.shape.points)" />
        <text :x="beside(each.shape, true).x" :y="beside(each.shape, true).y" :font-size="unit * 1.9">
          {{ each.shape.sides[0] }} · {{ total(each.back) }}
        </text>
        <text :x="beside(each.shape, false).x" :y="beside(each.shape, false).y" :font-size="unit * 1.9">
          {{ each.shape.sides[1] }} · {{ total(each.forward) }}
        </text>
      </template>
      <template v-else>
        <polygon class="casing" :points="path(each.shape.points)" />
        <polygon :points="path(each.shape.points)" />
        <text
          :x="each.shape.points[0]![0] * size.width"
          :y="each.shape.points[0]![1] * size.height - unit"
          :font-size="unit * 1.9"
          style="text-anchor: start">
          {{ each.shape.name }} · {{ total(each.objects) }}
        </text>
      </template>
    </g>
    <polyline v-if="points.length" class="new" :points="path([...points, ...(pointer ? [pointer] : [])])" />
    <circle
      v-for="(each, index) in points"
      :key="`p${index}`"
      class="new"
      :cx="each[0] * size.width"
      :cy="each[1] * size.height"
      :r="unit * 0.7" />
  </svg>
</template>

<style scoped>
.shapes {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  pointer-events: none;
}
.shapes.drawing {
  pointer-events: auto;
  cursor: crosshair;
  touch-action: none;
}
polyline,
polygon {
  fill: none;
  stroke: #fffefa;
  stroke-width: 2.5;
  vector-effect: non-scaling-stroke;
}
.casing {
  stroke: #101214;
  stroke-width: 5;
}
polygon:not(.casing) {
  fill: rgb(255 254 250 / 12%);
}
.chosen polyline:not(.casing),
.chosen polygon:not(.casing) {
  stroke-width: 4;
}
.new {
  stroke: #fffefa;
  stroke-dasharray: 6 4;
}
circle.new {
  fill: #fffefa;
}
text {
  font-family: var(--sans);
  font-weight: 700;
  fill: #fffefa;
  text-anchor: middle;
  paint-order: stroke;
  stroke: #101214;
  stroke-width: 0.22em;
}
</style>
