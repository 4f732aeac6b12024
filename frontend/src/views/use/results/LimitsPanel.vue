<script setup lang="ts">
/** What counts of what was found: minimum score, overlap limit, classes. Acts at once; nothing is run again. */
import { computed } from "vue";

import type { Timeline } from "@/api/client";
import FigureSlider from "@/parts/FigureSlider.vue";
import { count, threshold, whole } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";
import { scoresByClass, scoresTold } from "@/views/use/models";
import type { Limits } from "@/views/use/results/found";

const props = defineProps<{
  limits: Limits;
  timeline: Timeline;
  ownScore: number;
  /** Of single classes. */
  ownScores: Record<string, number>;
  ownLimit: number;
  unit: string;
  soft: boolean;
}>();
const line = defineModel<number>("line", { required: true });
const captions = defineModel<boolean>("captions", { required: true });
const store = useProject();

const floor = computed(() => Math.min(Math.ceil(props.timeline.floor * 100) / 100, props.ownScore));
const score = computed({
  get: () => props.limits.minimum_score ?? props.ownScore,
  set: (value) => (props.limits.minimum_score = value),
});
const overlap = computed({
  get: () => props.limits.overlap_limit ?? props.ownLimit,
  // With another limit the boxes are suppressed anew, from the minimum scores that stand.
  set: (value) => {
    if (!props.soft) props.limits.overlap_limit = value;
  },
});
const changed = computed(
  () => props.limits.minimum_score !== null || props.limits.overlap_limit !== null || props.limits.only.length > 0,
);
const total = computed(() => props.timeline.boxes.reduce((all, each) => all + each, 0));
const most = computed(() => Math.max(1, ...props.timeline.boxes));
const rows = computed(() =>
  props.timeline.classes.map((name, index) => ({
    name,
    boxes: props.timeline.boxes[index] ?? 0,
    pictures: props.timeline.pictures_with[index] ?? 0,
    colour: store.classes.find((each) => each.name === name)?.colour ?? "var(--sand)",
    on: !props.limits.only.length || props.limits.only.includes(name),
  })),
);

function toggle(name: string): void {
  const all = props.timeline.classes;
  const now = props.limits.only.length ? props.limits.only : all;
  const next = now.includes(name) ? now.filter((each) => each !== name) : [...now, name];
  props.limits.only = next.length === all.length || !next.length ? [] : next;
}
function reset(): void {
  Object.assign(props.limits, { minimum_score: null, overlap_limit: null, only: [] });
}
const within = (value: number, low: number): number => Math.round(100 * Math.min(Math.max(value, low), 0.99)) / 100;

useKeys([
  { keys: ["["], label: "Lower the minimum score", run: () => (score.value = within(score.value - 0.05, floor.value)) },
  { keys: ["]"], label: "Raise the minimum score", run: () => (score.value = within(score.value + 0.05, floor.value)) },
  { keys: ["{"], label: "Lower the overlap limit", run: () => (overlap.value = within(overlap.value - 0.05, 0)) },
  { keys: ["}"], label: "Raise the overlap limit", run: () => (overlap.value = within(overlap.value + 0.05, 0)) },
]);
</script>

<template>
  <section class="limits" data-test="limits">
    <p class="big" data-test="box-count">{{ count(total, "box", "boxes") }}</p>
    <p class="soft">
      in {{ count(timeline.pictures, unit)
      }}<template v-if="timeline.empty">, {{ whole(timeline.empty) }} without any</template>
    </p>
    <FigureSlider
      v-model="score"
      label="Minimum score"
      :min="floor"
      :max="0.99"
      :step="0.01"
      data-test="score-slider" />
    <p v-if="Object.keys(ownScores).length" class="soft" data-test="own-scores-said">
      <template v-if="limits.minimum_score === null">Of single classes: {{ scoresByClass(ownScores) }}</template>
      <template v-else>Of all classes; the run's own for {{ scoresByClass(ownScores) }} do not count</template>
    </p>
    <FigureSlider
      v-if="!soft"
      v-model="overlap"
      label="Overlap limit"
      :min="0"
      :max="1"
      :step="0.01"
      data-test="overlap-slider" />
    <p v-if="changed" class="soft">
      The run's own: {{ scoresTold(ownScore, ownScores)
      }}<template v-if="!soft"> and {{ threshold(ownLimit) }}</template
      >.
      <el-button link type="primary" size="small" data-test="reset-limits" @click="reset">Reset</el-button>
    </p>
    <div class="classes" data-test="by-class">
      <label
        v-for="each in rows"
        :key="each.name"
        :class="{ off: !each.on }"
        :title="`${each.name}: on ${count(each.pictures, unit)}, ${((100 * each.pictures) / Math.max(1, timeline.pictures)).toFixed(0)} %`">
        <input type="checkbox" :checked="each.on" @change="toggle(each.name)" />
        <span>{{ each.name }}</span>
        <i :style="{ width: `${(100 * each.boxes) / most}%`, background: each.colour }" />
        <b>{{ whole(each.boxes) }}</b>
      </label>
    </div>
    <div class="pen">
      <FigureSlider v-model="line" label="Line width" :min="1" :max="6" :step="1" />
      <el-checkbox v-model="captions">Captions</el-checkbox>
    </div>
  </section>
</template>

<style scoped>
.limits {
  display: grid;
  gap: 6px;
  padding: 12px 14px;
  border-bottom: 1px solid var(--rule);
}
.limits :deep(.figure-slider) {
  width: 100%;
}
.big {
  font: 560 24px/1.2 var(--serif);
}
.classes label {
  display: grid;
  grid-template-columns: 18px 76px minmax(0, 1fr) auto;
  gap: 6px;
  align-items: center;
  padding: 1px 0;
  cursor: pointer;
}
.classes label.off {
  color: var(--ink-soft);
}
.classes span {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.classes i {
  height: 9px;
  min-width: 1px;
}
.pen {
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  gap: 14px;
  align-items: end;
}
</style>
