<script setup lang="ts">
/** All figures of a measurement, and the counts that lie behind each. */
import type { Evaluation } from "@/api/client";
import { count, precision } from "@/parts/format";

const props = defineProps<{ report: NonNullable<Evaluation["report"]> }>();
const emit = defineEmits<{ open: [name: string] }>();
const between = (range?: readonly number[] | null): string => (range ? `${precision(range[0])} to ${precision(range[1])}` : "–");
const problems = props.report.problems ?? [];
const bounds = props.report.area_bounds ?? [32, 96];
const sizes = [
  { key: "small", said: `small, to ${bounds[0]}²` },
  { key: "medium", said: `medium, to ${bounds[1]}²` },
  { key: "large", said: "large, above" },
];
const worst = Object.entries(props.report.classes).reduce<string>(
  (found, [name, each]) => (each.ap50 !== null && (found === "" || each.ap50 < (props.report.classes[found]?.ap50 ?? 2)) ? name : found), "",
);
</script>

<template>
  <section data-test="figure-table">
    <table class="figures" data-test="class-figures">
      <thead>
        <tr>
          <th>Class</th><th class="number">AP at 0.5</th><th class="number">95 % range</th><th class="number">at 0.50:0.95</th><th class="number">95 % range</th>
          <th v-for="size in sizes" :key="size.key" class="number">{{ size.said }}</th>
          <th class="number">Truths</th><th class="number">Predictions</th><th class="number">Hits</th><th class="number">False alarms</th><th class="number">Missed</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(figures, name) in report.classes" :key="name" :class="{ worst: name === worst }">
          <td><button type="button" :title="`Boxes of ${name}`" @click="emit('open', String(name))">{{ name }}</button> <span v-if="name === worst" class="soft">lowest</span></td>
          <td class="number"><b>{{ precision(figures.ap50) }}</b></td>
          <td class="number soft">{{ between(figures.ap50_interval) }}</td>
          <td class="number">{{ precision(figures.ap) }}</td>
          <td class="number soft">{{ between(figures.ap_interval) }}</td>
          <td v-for="size in sizes" :key="size.key" class="number">{{ precision(figures.sizes?.[size.key]?.ap) }} <small v-if="figures.sizes?.[size.key]" class="soft">({{ figures.sizes![size.key]!.truths }})</small></td>
          <td class="number">{{ figures.truths }}</td><td class="number">{{ figures.detections }}</td><td class="number">{{ figures.hits ?? "–" }}</td><td class="number">{{ figures.false_alarms ?? "–" }}</td><td class="number">{{ figures.misses ?? "–" }}</td>
        </tr>
        <tr class="mean">
          <td>Mean of classes</td>
          <td class="number"><b>{{ precision(report.map50) }}</b></td><td class="number soft">{{ between(report.map50_interval) }}</td>
          <td class="number">{{ precision(report.map) }}</td><td class="number soft">{{ between(report.map_interval) }}</td>
          <td v-for="size in sizes" :key="size.key" class="number">{{ precision(report.sizes?.[size.key]?.map) }} <small v-if="report.sizes?.[size.key]" class="soft">({{ report.sizes![size.key]!.truths }})</small></td>
          <td colspan="5" />
        </tr>
      </tbody>
    </table>
    <p class="soft notes" data-test="more-figures">
      mAP at 0.75: {{ precision(report.map75) }}.
      Average recall with <template v-for="(value, limit, index) in report.recall" :key="limit">{{ index ? ", " : "" }}{{ limit }}: {{ precision(value) }}</template> detections of a class in a picture.
      Sizes by area in square pixels, with the number of truths. Counts are at IoU 0.5 and any score down to {{ report.lowest_score }}.
      Precision by the {{ report.interpolation }} rule<template v-if="report.resamples">; the ranges hold 95 % of {{ report.resamples.toLocaleString("en") }} measurements on pictures drawn anew from these</template>.
      <template v-if="report.milliseconds">One picture takes {{ report.milliseconds.toFixed(0) }} ms here, pixels to boxes.</template>
    </p>
    <p v-for="problem in problems" :key="problem" class="notice">{{ problem }}</p>
    <p v-if="problems.length" class="soft">{{ count(problems.length, "remark") }} on what was measured.</p>
  </section>
</template>

<style scoped>
.mean td { border-top: 1px solid var(--ink); border-bottom: 0; }
th { font-size: 13px; vertical-align: bottom; }
td, th { padding-right: 10px; }
.worst td { background: color-mix(in srgb, var(--brick) 7%, transparent); }
button { border: 0; background: none; padding: 0; font: inherit; color: inherit; cursor: pointer; text-decoration: underline; text-decoration-color: var(--rule); }
.notes { margin-top: 10px; max-width: 1020px; font-size: 14px; }
</style>
