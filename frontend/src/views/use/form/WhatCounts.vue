<script setup lang="ts">
/** What counts in a detection run: scores, overlap, classes, how densely and how closely it looks. */
import { computed, onMounted, ref } from "vue";

import { api, type Run, take } from "@/api/client";
import FigureSlider from "@/parts/FigureSlider.vue";
import { threshold } from "@/parts/format";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import { isSoft, SUPPRESSIONS } from "@/views/anatomy/suppressions";
import type { RunOrder } from "@/views/use/form/order";
import { scoresOf, useWishedScore } from "@/views/use/models";

const props = defineProps<{ order: RunOrder; run: Run | undefined }>();
const store = useProject();

const wished = computed({
  get: () => props.order.minimum_score,
  set: (value) => (props.order.minimum_score = value),
});
const { score, ofModel } = useWishedScore(wished, () => props.run);
/** Longer side of the project's pictures: in tiles of that size objects look as they did when they were learnt. */
const side = ref(960);
const soft = computed(() => isSoft(props.order.suppression));
const own = computed(() => Object.keys(props.order.minimum_scores));
const density = computed({
  get: () => (props.order.a_second === null ? "every" : "a second"),
  set: (kind) => Object.assign(props.order, { every: 1, a_second: kind === "every" ? null : 5 }),
});
const tiled = computed({
  get: () => props.order.tile !== null,
  set: (on) => (props.order.tile = on ? side.value : null),
});

onMounted(async () => {
  try {
    const params = { path: { project_id: store.id }, query: { limit: 1 } };
    const some = await take(api.GET("/api/v1/projects/{project_id}/pictures", { params }));
    const first = some.pictures[0];
    if (first) side.value = Math.max(64, first.width, first.height);
  } catch (error) {
    complain(error);
  }
});
function chooseOwn(names: string[]): void {
  const before = props.order.minimum_scores;
  props.order.minimum_scores = Object.fromEntries(
    names.map((name) => [name, before[name] ?? props.run?.minimum_scores[name] ?? Math.round(100 * score.value) / 100]),
  );
}
</script>

<template>
  <fieldset>
    <legend>What counts</legend>
    <el-checkbox v-model="ofModel" data-test="chosen-scores"
      >Minimum score of the model: {{ scoresOf(run) }}</el-checkbox
    >
    <div class="pair">
      <FigureSlider
        v-model="score"
        label="Minimum score"
        :min="0.01"
        :max="0.99"
        :step="0.01"
        data-test="score-slider" />
      <FigureSlider
        v-if="order.suppression !== 'gaussian'"
        v-model="order.overlap_limit"
        label="Overlap limit"
        :min="0"
        :max="1"
        :step="0.01"
        data-test="overlap-slider" />
    </div>
    <div class="pair">
      <label
        >Classes
        <el-select
          v-model="order.only"
          multiple
          collapse-tags
          collapse-tags-tooltip
          size="small"
          placeholder="All classes"
          aria-label="Classes"
          data-test="use-classes">
          <el-option v-for="each in store.classes" :key="each.id" :value="each.name" :label="each.name" />
        </el-select>
      </label>
      <label
        >Of clips
        <span class="density">
          <el-input-number
            v-if="density === 'every'"
            v-model="order.every"
            :min="1"
            :max="1000"
            size="small"
            aria-label="Every so many frames" />
          <el-input-number
            v-else
            v-model="order.a_second"
            :min="0.1"
            :max="200"
            :step="1"
            size="small"
            aria-label="Frames a second" />
          <el-select v-model="density" size="small" aria-label="How densely" data-test="density">
            <el-option value="every" :label="order.every === 1 ? 'frame apart' : 'frames apart'" />
            <el-option value="a second" label="frames a second" />
          </el-select>
        </span>
      </label>
    </div>
    <details data-test="more-limits">
      <summary>
        Small objects, duplicates, scores by class
        <span v-if="tiled || soft || order.suppression === 'across classes' || own.length" class="soft">(set)</span>
      </summary>
      <p class="line">
        <el-checkbox v-model="tiled" data-test="tiled">Look closely, in overlapping tiles of</el-checkbox>
        <el-input-number
          v-if="order.tile !== null"
          v-model="order.tile"
          :min="64"
          :max="20000"
          :step="32"
          size="small"
          aria-label="Pixels of a tile" />
        <span class="soft">{{ order.tile === null ? `${side} pixels` : "pixels" }}</span>
      </p>
      <p v-if="tiled" class="soft">
        For small objects on large pictures. They are found where they take as much of a tile as they took of the
        pictures that were learnt from, which here are {{ side }} pixels wide. Each tile takes as long as a picture.
      </p>
      <label class="line"
        ><span>Duplicates go</span>
        <el-select
          v-model="order.suppression"
          size="small"
          style="width: 190px"
          aria-label="Suppression"
          data-test="suppression">
          <el-option v-for="each in SUPPRESSIONS" :key="each.value" :value="each.value" :label="each.label" />
        </el-select>
      </label>
      <p v-if="soft" class="soft">Boxes that overlap lose score and go where it falls under the minimum score.</p>
      <label class="line"
        ><span>Own score for</span>
        <el-select
          :model-value="own"
          multiple
          collapse-tags
          size="small"
          placeholder="no class"
          style="width: 190px"
          aria-label="Classes with a score of their own"
          data-test="own-scores"
          @update:model-value="chooseOwn">
          <el-option v-for="each in store.classes" :key="each.id" :value="each.name" :label="each.name" />
        </el-select>
      </label>
      <FigureSlider
        v-for="name in own"
        :key="name"
        v-model="order.minimum_scores[name]!"
        :label="`Minimum score of ${name}`"
        :min="0.01"
        :max="0.99"
        :step="0.01" />
      <p v-if="own.length" class="soft">
        Others: {{ order.minimum_score === null ? scoresOf(run) : threshold(order.minimum_score) }}
      </p>
    </details>
  </fieldset>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 16px;
  align-items: end;
}
.pair > label {
  display: grid;
  gap: 2px;
}
.pair :deep(.figure-slider) {
  width: 100%;
}
.line {
  display: flex;
  gap: 8px;
  align-items: center;
}
.density {
  display: grid;
  grid-template-columns: 78px minmax(0, 1fr);
  gap: 6px;
}
.density :deep(.el-input-number) {
  width: 78px;
}
.line :deep(.el-input-number) {
  width: 96px;
}
details[open] {
  display: grid;
  gap: 6px;
}
summary {
  cursor: pointer;
  padding: 2px 0;
}
details > * + * {
  margin-top: 4px;
}
</style>
