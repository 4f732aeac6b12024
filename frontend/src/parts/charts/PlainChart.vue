<script setup lang="ts">
/** Points and bars: drawn from an ECharts option, with a click on what lies behind a point. */
import { BarChart, LineChart, ScatterChart } from "echarts/charts";
import { GridComponent, TooltipComponent } from "echarts/components";
import { type EChartsCoreOption, type EChartsType, init, use } from "echarts/core";
import { CanvasRenderer } from "echarts/renderers";
import { onBeforeUnmount, onMounted, ref, watch } from "vue";

use([BarChart, LineChart, ScatterChart, GridComponent, TooltipComponent, CanvasRenderer]);

const props = defineProps<{ option: EChartsCoreOption; label: string }>();
const emit = defineEmits<{ pressed: [value: unknown] }>();

const place = ref<HTMLDivElement>();
let chart: EChartsType | null = null;
let observer: ResizeObserver;

function draw(): void {
  const text = { fontFamily: "'Source Sans 3 Variable', sans-serif", color: "#15181b" };
  chart?.setOption({ animation: false, textStyle: text, ...props.option }, { notMerge: true });
}

onMounted(() => {
  chart = init(place.value!);
  chart.on("click", (event) => emit("pressed", event.value));
  draw();
  observer = new ResizeObserver(() => chart?.resize());
  observer.observe(place.value!);
});
onBeforeUnmount(() => {
  observer.disconnect();
  chart?.dispose();
});
watch(() => props.option, draw);
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
