<script setup lang="ts">
/** How often a score is right. */
import { computed, ref, watch } from "vue";

import { api, type Calibration, take } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import PlainChart from "@/parts/charts/PlainChart.vue";
import { complain } from "@/state/notes";
import { latestOnly } from "@/views/judge/figures/thresholds";

const props = defineProps<{ evaluationId: number; overlapLimit: number; classNames: string[] }>();
const chosen = ref<number | "all">("all");
const found = ref<Calibration | null>(null);

const load = latestOnly(async () => {
  try {
    const query = { overlap_limit: props.overlapLimit, class_index: chosen.value === "all" ? undefined : chosen.value };
    found.value = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}/calibration", {
        params: { path: { evaluation_id: props.evaluationId }, query },
      }),
    );
  } catch (error) {
    complain(error);
  }
});
watch([chosen, () => props.overlapLimit], load, { immediate: true });

type Reliability = NonNullable<Calibration["before"]>;
const binsOf = (said?: Reliability | null) =>
  (said?.counts ?? []).map((count, index) => ({
    from: said!.edges[index]!,
    to: said!.edges[index + 1]!,
    count,
    score: said!.mean_score[index] ?? null,
    right: said!.share_right[index] ?? null,
  }));
const bins = computed(() => binsOf(found.value));
const points = (said?: Reliability | null) =>
  binsOf(said)
    .filter((bin) => bin.right !== null)
    .map((bin) => [bin.score, bin.right, bin.count]);
const words = computed(() => {
  const far = [...bins.value]
    .filter((bin) => bin.count >= 10 && bin.right !== null)
    .sort((a, b) => Math.abs(b.right! - b.score!) - Math.abs(a.right! - a.score!))[0];
  if (!far) return "There are too few predictions to say.";
  const gap = far.right! - far.score!;
  const share = `${Math.round(100 * far.right!)} of 100`;
  if (Math.abs(gap) < 0.05) return "The scores can be read as probabilities: none is off by more than 0.05.";
  return `Of predictions scored ${far.from.toFixed(1)} to ${far.to.toFixed(1)}, ${share} are right: the scores there are too ${gap > 0 ? "low" : "high"}.`;
});
const option = computed(() => ({
  grid: { left: 52, right: 20, top: found.value?.before ? 34 : 16, bottom: 44 },
  legend: found.value?.before ? { top: 0, data: ["as it answers", "before calibration"] } : undefined,
  tooltip: { trigger: "item" },
  xAxis: {
    type: "value",
    min: 0,
    max: 1,
    name: "Score",
    nameLocation: "middle",
    nameGap: 26,
    splitLine: { show: false },
  },
  yAxis: {
    type: "value",
    min: 0,
    max: 1,
    name: "Share that is right",
    nameLocation: "middle",
    nameGap: 36,
    splitLine: { lineStyle: { color: "#ddd7c9" } },
  },
  series: [
    {
      type: "line",
      data: [
        [0, 0],
        [1, 1],
      ],
      symbol: "none",
      silent: true,
      lineStyle: { color: "#8a8371", type: "dashed", width: 1.5 },
    },
    {
      type: "line",
      name: "before calibration",
      color: "#B98A24",
      symbol: "diamond",
      symbolSize: 7,
      lineStyle: { width: 1.5, type: "dotted" },
      data: points(found.value?.before),
      tooltip: {
        formatter: (point: { value: number[] }) =>
          `Before calibration, score ${point.value[0]!.toFixed(2)}: ${(100 * point.value[1]!).toFixed(0)} % right`,
      },
    },
    {
      type: "line",
      name: "as it answers",
      color: "#4A7397",
      lineStyle: { width: 2 },
      data: points(found.value),
      symbolSize: (value: number[]) => 6 + 3 * Math.log10(1 + (value[2] ?? 0)),
      tooltip: {
        formatter: (point: { value: number[] }) =>
          `Score ${point.value[0]!.toFixed(2)}: ${(100 * point.value[1]!).toFixed(0)} % right, of ${point.value[2]}`,
      },
    },
  ],
}));
</script>

<template>
  <section data-test="calibration">
    <header>
      <h2>How often is a score right?</h2>
      <el-select v-model="chosen" size="small" aria-label="Class" style="width: 150px"
        ><el-option value="all" label="All classes" /><el-option
          v-for="(name, index) in classNames"
          :key="name"
          :value="index"
          :label="name"
      /></el-select>
    </header>
    <div class="both">
      <PlainChart class="chart" :option="option" label="Share of predictions that are right against their score" />
      <div>
        <p data-test="calibration-words">{{ words }}</p>
        <p v-if="found && found.expected_error !== null">
          Expected error <b>{{ found.expected_error.toFixed(3) }}</b>: so far score and share right lie apart on
          average<template v-if="found.before?.expected_error != null"
            >; with the scores as the network gave them <b>{{ found.before.expected_error.toFixed(3) }}</b></template
          >.
        </p>
        <p v-if="found && !found.before" class="soft" data-test="not-calibrated">
          The scores are those that the network gives. They are calibrated only where its validation has
          {{ CONSTANTS.enough_detections }} detections or more and shows that calibration helps.
        </p>
        <table class="figures">
          <thead>
            <tr>
              <th>Score</th>
              <th class="number">Predictions</th>
              <th class="number">Mean score</th>
              <th class="number">Right</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="bin in bins" :key="bin.from">
              <td>{{ bin.from.toFixed(1) }} to {{ bin.to.toFixed(1) }}</td>
              <td class="number">{{ bin.count }}</td>
              <td class="number">{{ bin.score?.toFixed(2) ?? "–" }}</td>
              <td class="number">{{ bin.right === null ? "–" : `${(100 * bin.right).toFixed(0)} %` }}</td>
            </tr>
          </tbody>
        </table>
        <p class="soft note">
          Right means a hit at IoU 0.5. Predictions below {{ found?.lowest_score }} are left out. On the broken line
          scores would be exactly right.
        </p>
      </div>
    </div>
  </section>
</template>

<style scoped>
header {
  display: flex;
  gap: 16px;
  align-items: center;
  margin-bottom: 6px;
}
.both {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 400px;
  gap: 26px;
  align-items: start;
}
.both > div:last-child {
  display: grid;
  gap: 8px;
}
.chart {
  height: 400px;
}
td {
  padding-top: 2px;
  padding-bottom: 2px;
}
.note {
  font-size: 13px;
}
</style>
