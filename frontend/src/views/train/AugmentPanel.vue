<script setup lang="ts">
/** How training pictures are varied, and a sheet of them as the loader makes them. */
import { computed, onMounted, ref, watch } from "vue";

import type { Plan } from "@/api/client";
import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";
import { AUGMENTATION, type Draft, lookAhead } from "@/views/train/runSettings";

const props = defineProps<{ plan: Plan; draft: Draft }>();
const store = useProject();

interface Sheet {
  width: number; height: number; class_names: string[]; least_visible: number; least_side: number;
  pictures: { name: string; boxes: [number, number, number, number][]; classes: number[] }[];
}
const sheet = ref<(Sheet & { job_id: number }) | null>(null);
const draw = ref(0);
const busy = ref(false);
const failed = ref("");
let again = false;

const varied = computed(() => props.draft.settings.augmentation);
const flips = [
  { value: "none", label: "Not at all" },
  { value: "sideways", label: "Left and right" },
  { value: "all", label: "Every way, and turned" },
];
const share = (value: number): string => `${Math.round(100 * value)} %`;
const give = (value: number): string => `± ${Math.round(100 * value)} %`;
const degrees = (value: number): string => `± ${value}°`;
const strengths = [
  { key: "scale_least", name: "Smallest", min: 0.1, max: 1, step: 0.05, say: share },
  { key: "scale_most", name: "Largest", min: 1, max: 4, step: 0.05, say: share },
  { key: "shift", name: "Shift", min: 0, max: 1, step: 0.1, say: share },
  { key: "turn", name: "Turn", min: 0, max: 45, step: 1, say: degrees },
  { key: "light", name: "Light", min: 0, max: 0.9, step: 0.05, say: give },
  { key: "hue", name: "Hue", min: 0, max: 180, step: 2, say: degrees },
  { key: "saturation", name: "Saturation", min: 0, max: 1, step: 0.05, say: give },
  { key: "blur", name: "Blur", min: 0, max: 5, step: 0.1, say: (value: number): string => `to ${value} px` },
  { key: "collage", name: "Four in one", min: 0, max: 1, step: 0.1, say: share },
  { key: "copy_in", name: "Copied in", min: 0, max: 1, step: 0.1, say: share },
] as const;

async function make(): Promise<void> {
  if (busy.value) {
    again = true;
    return;
  }
  busy.value = true;
  failed.value = "";
  try {
    sheet.value = await lookAhead<Sheet>(props.draft, "augmented", draw.value);
  } catch (error) {
    failed.value = (error as Error).message;
  } finally {
    busy.value = false;
    if (again) {
      again = false;
      void make();
    }
  }
}

function drawAgain(): void {
  draw.value += 1;
  void make();
}
onMounted(make);
let waiting = 0;
watch(
  () => [varied.value, props.draft.settings.side],
  () => {
    window.clearTimeout(waiting);
    waiting = window.setTimeout(make, 350);
  },
  { deep: true },
);
useKeys([{ keys: ["w"], label: "Draw other augmented pictures", run: drawAgain }]);
const colour = (index: number): string => store.classes.find((each) => each.name === sheet.value?.class_names[index])?.colour ?? "#A9B8C9";
</script>

<template>
  <div class="panel" data-test="augment-panel">
    <div class="knobs">
      <label class="wide">
        <span>Mirrored</span>
        <el-select :model-value="varied.flips ?? (plan.every_direction ? 'all' : 'sideways')" size="small" aria-label="Mirroring" @update:model-value="varied.flips = $event">
          <el-option v-for="each in flips" :key="each.value" v-bind="each" />
        </el-select>
        <em>{{ plan.every_direction ? "boxes lie every way" : "boxes keep their way" }}</em>
      </label>
      <label v-for="each in strengths" :key="each.key">
        <span>{{ each.name }}</span>
        <el-slider v-model="varied[each.key]" :min="each.min" :max="each.max" :step="each.step" size="small" :show-tooltip="false" :aria-label="each.name" />
        <em>{{ each.say(varied[each.key]) }}</em>
      </label>
      <div class="line wide">
        <el-button size="small" data-test="draw-again" @click="drawAgain">Draw others</el-button>
        <el-button size="small" @click="Object.assign(varied, AUGMENTATION)">As at first</el-button>
      </div>
    </div>
    <p v-if="failed" class="notice bad">{{ failed }}</p>
    <div v-if="sheet" class="sheet" :class="{ busy }">
      <svg v-for="(picture, number) in sheet.pictures" :key="`${sheet.job_id}-${number}`" :viewBox="`0 0 ${sheet.width} ${sheet.height}`" role="img" :aria-label="`${picture.name}, ${picture.boxes.length} boxes`" data-test="augmented">
        <image :href="`/api/v1/sheets/${sheet.job_id}/${number}`" :width="sheet.width" :height="sheet.height" />
        <rect v-for="(box, index) in picture.boxes" :key="index" :x="box[0]" :y="box[1]" :width="box[2] - box[0]" :height="box[3] - box[1]" :stroke="colour(picture.classes[index]!)" />
      </svg>
    </div>
    <p v-if="sheet" class="soft small">
      Twelve training pictures as the loader makes them, drawing {{ draw }}. A box of which less than {{ (100 * sheet.least_visible).toFixed(0) }} % is left, or that is under {{ sheet.least_side }} pixels, is dropped; the last part of a training goes without collages.
    </p>
  </div>
</template>

<style scoped>
.panel { display: grid; gap: 10px; }
.knobs { display: grid; grid-template-columns: 1fr 1fr; gap: 2px 22px; }
.knobs label { display: grid; grid-template-columns: 80px minmax(0, 1fr) 58px; gap: 14px; align-items: center; font-weight: 600; min-height: 28px; }
.knobs label.wide { grid-column: 1 / -1; grid-template-columns: 80px 190px 1fr; }
.knobs em { font-style: normal; font-weight: 400; font-size: 13px; color: var(--ink-soft); }
.line { grid-column: 1 / -1; margin-top: 4px; display: flex; gap: 8px; align-items: center; }
.sheet { display: grid; grid-template-columns: repeat(4, 1fr); gap: 5px; }
.sheet.busy { opacity: 0.55; }
.sheet svg { width: 100%; background: var(--stage); display: block; }
.sheet rect { fill: none; stroke-width: 1.5; vector-effect: non-scaling-stroke; }
.small { font-size: 13px; }
</style>
