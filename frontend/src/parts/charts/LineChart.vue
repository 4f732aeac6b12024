<script setup lang="ts">
/** Curves over epochs: read point by point, zoomed with the wheel. */
import { LineChart, ScatterChart } from "echarts/charts";
import {
  DataZoomComponent,
  GridComponent,
  LegendComponent,
  MarkLineComponent,
  TooltipComponent,
} from "echarts/components";
import { type EChartsType, use } from "echarts/core";
import { CanvasRenderer } from "echarts/renderers";
import { ref, watch } from "vue";

import { PLAIN, useChart } from "@/parts/charts/useChart";

use([
  LineChart,
  ScatterChart,
  GridComponent,
  LegendComponent,
  TooltipComponent,
  DataZoomComponent,
  MarkLineComponent,
  CanvasRenderer,
]);

const props = defineProps<{
  curves: { name: string; colour: string; dashed?: boolean; points: [number, number][] }[];
  xName: string;
  label: string;
  /** Upper end of the y axis where it is fixed. */
  top?: number;
  xTop?: number;
  digits?: number;
  yName?: string;
  /** Points of their own, such as where a threshold lies on a curve. */
  marks?: { name: string; colour: string; point: [number, number] }[];
}>();

const place = ref<HTMLDivElement>();

function draw(chart: EChartsType): void {
  chart.setOption(
    {
      ...PLAIN,
      grid: { left: 46, right: 16, top: 30, bottom: 38 },
      legend: {
        top: 0,
        left: 40,
        data: props.curves.map((curve) => curve.name),
        itemWidth: 22,
        itemHeight: 8,
        textStyle: { fontSize: 13 },
      },
      tooltip: {
        trigger: "axis",
        valueFormatter: (value: unknown) => (typeof value === "number" ? value.toFixed(props.digits ?? 3) : "–"),
      },
      dataZoom: [{ type: "inside" }],
      xAxis: {
        type: "value",
        name: props.xName,
        nameLocation: "middle",
        nameGap: 22,
        min: 0,
        max: props.xTop,
        minInterval: props.xTop !== undefined && props.xTop <= 1 ? undefined : 1,
        splitLine: { show: false },
        axisLine: { lineStyle: { color: "#15181b" } },
      },
      yAxis: {
        type: "value",
        name: props.yName,
        nameLocation: "middle",
        nameGap: 34,
        min: 0,
        max: props.top,
        splitLine: { lineStyle: { color: "#ddd7c9" } },
      },
      series: [
        ...props.curves.map((curve) => ({
          name: curve.name,
          type: "line",
          data: curve.points,
          showSymbol: curve.points.length < 3,
          symbolSize: 5,
          lineStyle: { width: 2, type: curve.dashed ? "dashed" : "solid" },
          color: curve.colour,
        })),
        ...(props.marks ?? []).map((mark) => ({
          name: mark.name,
          type: "scatter",
          data: [mark.point],
          symbolSize: 12,
          z: 5,
          itemStyle: { color: mark.colour, borderColor: "#15181b", borderWidth: 1.5 },
          tooltip: { show: false },
        })),
      ],
    },
    { replaceMerge: ["series"] },
  );
}

const drawAgain = useChart(place, draw);
watch(() => [props.curves, props.xTop, props.marks], drawAgain, { deep: true });
</script>

<template>
  <div ref="place" class="chart" role="img" :aria-label="label" />
</template>

<style scoped>
.chart {
  width: 100%;
  height: 100%;
  min-height: 180px;
}
</style>
