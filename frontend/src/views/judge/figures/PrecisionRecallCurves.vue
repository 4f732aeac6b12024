<script setup lang="ts">
/** Precision against recall by class and IoU, with the minimum score as a point on the curve. */
import { computed, ref, watch } from "vue";

import { api, type PrecisionRecall, take } from "@/api/client";
import LineChart from "@/parts/charts/LineChart.vue";
import { threshold } from "@/parts/format";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import { latestOnly } from "@/views/judge/figures/thresholds";

const props = defineProps<{ evaluationId: number; minimumScore: number; overlapLimit: number; chosenClass?: string }>();
const store = useProject();
const curves = ref<PrecisionRecall[]>([]);
const by = ref<"class" | "iou">("class");
const iou = ref(0.5);
const name = ref(props.chosenClass ?? "");
const LEVELS = [0.5, 0.6, 0.7, 0.75, 0.8, 0.85, 0.9, 0.95];
const TINTS = ["#28435b", "#4a7397", "#5f87a8", "#6e8259", "#9a8c4f", "#b58a4a", "#b5492f", "#7c2f1e"];

const load = latestOnly(async () => {
  try {
    const query = { minimum_score: props.minimumScore, overlap_limit: props.overlapLimit, ious: LEVELS };
    const found = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}/curves", {
        params: { path: { evaluation_id: props.evaluationId }, query },
      }),
    );
    curves.value = found.curves;
    if (!names.value.includes(name.value)) name.value = names.value[0] ?? "";
  } catch (error) {
    complain(error);
  }
});
const names = computed(() => [...new Set(curves.value.map((each) => each.name))]);
watch(() => [props.minimumScore, props.overlapLimit], load, { immediate: true });
watch(
  () => props.chosenClass,
  (chosen) => {
    if (chosen) [name.value, by.value] = [chosen, "iou"];
  },
);

const chosen = computed(() =>
  curves.value.filter((each) => (by.value === "class" ? each.iou === iou.value : each.name === name.value)),
);
const colour = (each: PrecisionRecall, index: number): string =>
  by.value === "class"
    ? (store.classes.find((known) => known.name === each.name)?.colour ?? TINTS[index % TINTS.length]!)
    : TINTS[index % TINTS.length]!;
const title = (each: PrecisionRecall): string => (by.value === "class" ? each.name : `IoU ${each.iou.toFixed(2)}`);
const lines = computed(() =>
  chosen.value.map((each, index) => ({
    name: title(each),
    colour: colour(each, index),
    points: each.curve.map(([r, p]): [number, number] => [r, p]),
  })),
);
const marks = computed(() =>
  chosen.value.flatMap((each, index) =>
    each.point ? [{ name: title(each), colour: colour(each, index), point: each.point as [number, number] }] : [],
  ),
);
</script>

<template>
  <section class="curves" data-test="pr-curves">
    <header>
      <h2>Precision against recall</h2>
      <el-radio-group v-model="by" size="small" aria-label="Curves"
        ><el-radio-button value="class">All classes</el-radio-button
        ><el-radio-button value="iou">One class, every IoU</el-radio-button></el-radio-group
      >
      <el-select v-if="by === 'class'" v-model="iou" size="small" aria-label="IoU" style="width: 110px"
        ><el-option v-for="level in LEVELS" :key="level" :value="level" :label="`IoU ${level.toFixed(2)}`"
      /></el-select>
      <el-select v-else v-model="name" size="small" aria-label="Class" style="width: 150px"
        ><el-option v-for="each in names" :key="each" :value="each"
      /></el-select>
      <span class="soft">The dots are where the minimum score of {{ threshold(minimumScore) }} lies.</span>
    </header>
    <div class="both">
      <LineChart
        class="chart"
        :curves="lines"
        :marks="marks"
        x-name="Recall"
        y-name="Precision"
        :x-top="1"
        :top="1"
        label="Precision against recall" />
      <table class="figures">
        <thead>
          <tr>
            <th>{{ by === "class" ? "Class" : "IoU" }}</th>
            <th class="number">AP</th>
            <th class="number">Precision</th>
            <th class="number">Recall</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(each, index) in chosen" :key="title(each)">
            <td><i :style="{ background: colour(each, index) }" />{{ title(each) }}</td>
            <td class="number">{{ each.average_precision?.toFixed(3) ?? "–" }}</td>
            <td class="number">{{ each.point?.[1].toFixed(3) ?? "–" }}</td>
            <td class="number">{{ each.point?.[0].toFixed(3) ?? "–" }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
header {
  display: flex;
  gap: 14px;
  align-items: center;
  margin-bottom: 8px;
  flex-wrap: wrap;
}
.both {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 340px;
  gap: 26px;
  align-items: start;
}
.chart {
  height: 380px;
}
td {
  padding-top: 3px;
  padding-bottom: 3px;
}
i {
  display: inline-block;
  width: 10px;
  height: 10px;
  margin-right: 7px;
}
</style>
