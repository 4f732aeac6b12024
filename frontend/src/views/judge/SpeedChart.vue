<script setup lang="ts">
/** Speed against accuracy: the chosen two, and every other model measured on the same pictures. */
import { computed } from "vue";

import type { Evaluation } from "@/api/client";
import PlainChart from "@/parts/charts/PlainChart.vue";
import { between, precision } from "@/parts/format";
import { comparable } from "@/views/judge/comparable";

const props = defineProps<{ evaluations: Evaluation[]; first: number | undefined; second: number | undefined }>();

const shown = computed(() => comparable(props.evaluations, props.first, props.second));
const colour = (each: Evaluation): string =>
  each.id === props.first ? "#4A7397" : each.id === props.second ? "#B5492F" : "#C9B79C";

/** A model's range, so that a difference by chance looks like one. */
const range = (each: Evaluation) => ({
  type: "line",
  data: each.report!.map_interval?.map((end) => [each.report!.milliseconds, end]) ?? [],
  symbol: "rect",
  symbolSize: [11, 2],
  itemStyle: { color: colour(each) },
  lineStyle: { color: colour(each), width: 2 },
  silent: true,
  tooltip: { show: false },
});
const option = computed(() => ({
  grid: { left: 56, right: 24, top: 14, bottom: 42 },
  tooltip: { trigger: "item" },
  xAxis: {
    type: "value",
    name: "Milliseconds a picture on this machine",
    nameLocation: "middle",
    nameGap: 25,
    min: 0,
    max: (ends: { max: number }) => Math.ceil((1.35 * ends.max) / 10) * 10,
    splitLine: { show: false },
  },
  yAxis: {
    type: "value",
    name: "mAP at 0.50:0.95",
    nameLocation: "middle",
    nameGap: 38,
    scale: true,
    axisLabel: { formatter: (value: number) => value.toFixed(2) },
    minInterval: 0.01,
    splitLine: { lineStyle: { color: "#ddd7c9" } },
  },
  series: [
    ...shown.value.map(range),
    {
      type: "scatter",
      symbolSize: 13,
      data: shown.value.map((each) => ({
        value: [each.report!.milliseconds, each.report!.map, each.id],
        name: each.name,
        itemStyle: { color: colour(each), borderColor: "#15181b", borderWidth: 1, opacity: 1 },
      })),
      label: { show: true, position: "right", formatter: "{b}", color: "#15181b" },
      labelLayout: { moveOverlap: "shiftY" },
      tooltip: {
        formatter: (point: { name: string; value: number[]; dataIndex: number }) => {
          const held = between(shown.value[point.dataIndex]?.report?.map_interval);
          const figure = `${point.name}: ${point.value[0]!.toFixed(0)} ms, mAP ${precision(point.value[1])}`;
          return held ? `${figure} (${held})` : figure;
        },
      },
    },
  ],
}));
</script>

<template>
  <template v-if="shown.length">
    <PlainChart class="chart" :option="option" label="mAP against milliseconds a picture" />
    <p v-if="shown.some((each) => each.report?.map_interval)" class="soft note">
      Bars are the 95 % range of each by itself; the table has that of the difference.
    </p>
  </template>
  <p v-else class="soft">Measure again to see how fast each model is.</p>
</template>

<style scoped>
.chart {
  height: 260px;
}
.note {
  font-size: 13px;
  margin: 0 0 6px;
}
</style>
