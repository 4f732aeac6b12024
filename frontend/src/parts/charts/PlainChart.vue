<script setup lang="ts">
/** Points and bars: drawn from an ECharts option, with a click on what lies behind a point. */
import { BarChart, LineChart, ScatterChart } from "echarts/charts";
import { GridComponent, LegendComponent, TooltipComponent } from "echarts/components";
import { type EChartsCoreOption, type EChartsType, use } from "echarts/core";
import { CanvasRenderer } from "echarts/renderers";
import { ref, watch } from "vue";

import { PLAIN, useChart } from "@/parts/charts/useChart";

use([BarChart, LineChart, ScatterChart, GridComponent, LegendComponent, TooltipComponent, CanvasRenderer]);

const props = defineProps<{ option: EChartsCoreOption; label: string }>();
const emit = defineEmits<{ pressed: [value: unknown] }>();

const place = ref<HTMLDivElement>();

function draw(chart: EChartsType): void {
  chart.setOption({ ...PLAIN, ...props.option }, { notMerge: true });
}

const drawAgain = useChart(place, draw, (chart) => chart.on("click", (event) => emit("pressed", event.value)));
watch(() => props.option, drawAgain);
</script>

<template>
  <div ref="place" class="chart" role="img" :aria-label="label" />
</template>

<style scoped>
.chart {
  width: 100%;
  height: 100%;
}
</style>
