<script setup lang="ts">
/** How training pictures are varied, and a sheet of them as the loader makes them. */
import { computed, onMounted, ref, watch } from "vue";

import type { Job, Plan } from "@/api/client";
import { AUGMENTATION } from "@/api/declared";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import BoxOutline from "@/stage/BoxOutline.vue";
import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";
import {
  type Augmentation,
  type Draft,
  firstAugmentation,
  lookAhead,
  type Seen,
} from "@/views/train/ahead/runSettings";
import { wordsOf } from "@/state/notes";

const props = defineProps<{ plan: Plan; draft: Draft }>();
const store = useProject();
const live = useLiveJob();

const sheet = ref<(Seen<"augmented"> & { job_id: number }) | null>(null);
const drawing = ref<Job | null>(null);
const job = computed(() => (drawing.value ? live(drawing.value) : null));
const draw = ref(0);
const busy = ref(false);
const failed = ref("");
let again = false;

const varied = computed(() => props.draft.settings.augmentation);
const say: Record<string, (value: number) => string> = {
  turn: (value) => `± ${value}°`,
  hue: (value) => `± ${value}°`,
  light: (value) => `± ${Math.round(100 * value)} %`,
  saturation: (value) => `± ${Math.round(100 * value)} %`,
  blur: (value) => `to ${value} px`,
};
const share = (value: number): string => `${Math.round(100 * value)} %`;
type Strength = Exclude<keyof Augmentation, "flips">;
const strengths = computed(() =>
  Object.entries(AUGMENTATION)
    .filter(([key]) => key !== "flips")
    .map(([key, said]) => ({
      key: key as Strength,
      ...said,
      shown: (say[key] ?? share)(varied.value[key as Strength]),
    })),
);
const flips = AUGMENTATION.flips!;

async function make(): Promise<void> {
  if (busy.value) {
    again = true;
    return;
  }
  busy.value = true;
  failed.value = "";
  try {
    sheet.value = await lookAhead(props.draft, "augmented", draw.value, (started) => (drawing.value = started));
  } catch (error) {
    failed.value = wordsOf(error);
  } finally {
    busy.value = false;
    drawing.value = null;
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
useKeys([{ keys: ["w"], label: "New sample", run: drawAgain }]);
const colour = (index: number): string =>
  store.classes.find((each) => each.name === sheet.value?.class_names[index])?.colour ?? "#A9B8C9";
</script>

<template>
  <div class="panel" data-test="augment-panel">
    <div class="knobs">
      <label class="wide">
        <span :title="flips.says">{{ flips.title }}</span>
        <el-select
          :model-value="varied.flips ?? (plan.every_direction ? 'all' : 'sideways')"
          size="small"
          :aria-label="flips.title"
          @update:model-value="varied.flips = $event">
          <el-option v-for="(label, key) in flips.choices" :key="key" :value="key" :label="label" />
        </el-select>
        <em>{{ plan.every_direction ? "boxes lie every way" : "boxes keep their way" }}</em>
      </label>
      <label v-for="each in strengths" :key="each.key" :title="each.says">
        <span>{{ each.title }}</span>
        <el-slider
          v-model="varied[each.key]"
          :min="each.least"
          :max="each.most"
          :step="each.step"
          size="small"
          :show-tooltip="false"
          :aria-label="each.title" />
        <em>{{ each.shown }}</em>
      </label>
      <div class="line wide">
        <el-button v-hint="'New sample'" size="small" data-test="draw-again" @click="drawAgain">New sample</el-button>
        <el-button size="small" @click="Object.assign(varied, firstAugmentation())">Reset</el-button>
        <JobState v-if="job" :job="job" data-test="drawing" />
      </div>
    </div>
    <p v-if="failed" class="notice bad">{{ failed }}</p>
    <div v-if="sheet" class="sheet" :class="{ busy }">
      <svg
        v-for="(picture, number) in sheet.pictures"
        :key="`${sheet.job_id}-${number}`"
        :viewBox="`0 0 ${sheet.width} ${sheet.height}`"
        role="img"
        :aria-label="`${picture.name}, ${picture.boxes.length} boxes`"
        data-test="augmented">
        <image :href="`/api/v1/sheets/${sheet.job_id}/${number}`" :width="sheet.width" :height="sheet.height" />
        <BoxOutline
          v-for="(box, index) in picture.boxes"
          :key="index"
          :corners="box"
          :colour="colour(picture.classes[index]!)"
          :width="1.5"
          :class="{ ignored: picture.ignored[index] }" />
      </svg>
    </div>
    <p v-if="sheet" class="soft small">
      Twelve training pictures as the loader makes them, sample {{ draw + 1 }}. A box of which less than
      {{ (100 * sheet.least_visible).toFixed(0) }} % is left, or that is under {{ sheet.least_side }} pixels, is
      dropped. Dotted boxes are neither learnt nor unlearnt: marked so, or cut by the picture's edge and then once more.
      The last part of a training has no collages.
    </p>
  </div>
</template>

<style scoped>
.panel {
  display: grid;
  gap: 10px;
}
.knobs {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 2px 22px;
}
.knobs label {
  display: grid;
  grid-template-columns: 104px minmax(0, 1fr) 58px;
  gap: 14px;
  align-items: center;
  font-weight: 600;
  min-height: 28px;
}
.knobs label.wide {
  grid-column: 1 / -1;
  grid-template-columns: 104px 190px 1fr;
}
.knobs em {
  font-style: normal;
  font-weight: 400;
  font-size: 13px;
  color: var(--ink-soft);
}
.line {
  grid-column: 1 / -1;
  margin-top: 4px;
  display: flex;
  gap: 8px;
  align-items: center;
}
.sheet {
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  gap: 5px;
}
.sheet.busy {
  opacity: 0.55;
}
.sheet svg {
  width: 100%;
  background: var(--stage);
  display: block;
}
.sheet rect.ignored {
  stroke-dasharray: 1 4;
}
.small {
  font-size: 13px;
}
</style>
