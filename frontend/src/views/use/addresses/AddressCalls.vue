<script setup lang="ts">
/** Calls of an address by day and outcome, and how long they took. */
import { computed, ref, watch } from "vue";

import { api, type Address, type DayOfCalls, take } from "@/api/client";
import PlainChart from "@/parts/charts/PlainChart.vue";
import { whole } from "@/parts/format";
import { complain } from "@/state/notes";

const props = defineProps<{ address: Address }>();
const days = ref<DayOfCalls[]>([]);
const COLOURS: Record<string, string> = {
  answered: "#6E8259",
  "no picture": "#C9B79C",
  "too large": "#8A6A2F",
  "too many": "#4A7397",
  "no key": "#4C5257",
  failed: "#B5492F",
};

watch(
  () => props.address,
  async (address) => {
    try {
      const params = { path: { address_id: address.id } };
      days.value = (await take(api.GET("/api/v1/addresses/{address_id}/calls", { params }))).days;
    } catch (error) {
      complain(error);
    }
  },
  { immediate: true },
);
const names = computed(() => days.value.map((each) => each.day.slice(5)));
const last = computed(() => days.value.at(-1));
const calls = computed(() => ({
  grid: { left: 46, right: 8, top: 26, bottom: 22 },
  legend: { top: 0, left: 40, itemWidth: 10, itemHeight: 8, textStyle: { fontSize: 12 } },
  tooltip: { trigger: "axis" },
  xAxis: { type: "category", data: names.value },
  yAxis: { type: "value", minInterval: 1, name: "" },
  series: Object.keys(COLOURS)
    .filter((name) => days.value.some((each) => each.outcomes[name]))
    .map((name) => ({
      name,
      type: "bar",
      stack: "calls",
      barMaxWidth: 26,
      color: COLOURS[name],
      data: days.value.map((each) => each.outcomes[name] ?? 0),
    })),
}));
const latency = computed(() => ({
  grid: { left: 66, right: 8, top: 26, bottom: 22 },
  legend: { top: 0, left: 40, itemWidth: 18, itemHeight: 8, textStyle: { fontSize: 12 } },
  tooltip: { trigger: "axis", valueFormatter: (value: unknown) => `${Number(value).toFixed(0)} ms` },
  xAxis: { type: "category", data: names.value },
  yAxis: { type: "value", axisLabel: { formatter: "{value} ms" } },
  series: [
    { name: "median", key: "median" as const, type: "solid" as const },
    { name: "95th percentile", key: "p95" as const, type: "dashed" as const },
    { name: "99th percentile", key: "p99" as const, type: "dotted" as const },
  ].map((each) => ({
    name: each.name,
    type: "line",
    color: "#4A7397",
    symbolSize: 6,
    lineStyle: { type: each.type },
    data: days.value.map((row) => row[each.key]),
  })),
}));
const keys = computed(() =>
  props.address.keys.map((key) => ({
    name: key.name,
    calls: days.value.reduce((all, each) => all + (each.by_key.find((one) => one.key_id === key.id)?.calls ?? 0), 0),
  })),
);
</script>

<template>
  <section data-test="address-calls">
    <h3>Calls of 30 days</h3>
    <p v-if="!days.length" class="soft">None yet.</p>
    <template v-else>
      <p v-if="last" class="soft">
        Today {{ whole(Object.values(last.outcomes).reduce((all, each) => all + each, 0)) }};
        <template v-if="last.median !== null">median {{ last.median.toFixed(0) }} ms, </template>by key:
        {{ keys.map((each) => `${each.name} ${whole(each.calls)}`).join(", ") }}
      </p>
      <div class="chart"><PlainChart :option="calls" label="Calls a day by outcome" /></div>
      <div class="chart"><PlainChart :option="latency" label="Milliseconds a call by day" /></div>
    </template>
  </section>
</template>

<style scoped>
.chart {
  height: 128px;
}
</style>
