<script setup lang="ts">
/** All figures of a measurement, and the counts that lie behind each. */
import { computed } from "vue";

import type { ClassCounts, Evaluation } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import Explained from "@/parts/Explained.vue";
import { between, count, precision } from "@/parts/format";

const props = defineProps<{ report: NonNullable<Evaluation["report"]>; counts: ClassCounts[] }>();
const emit = defineEmits<{ open: [name: string] }>();
/** Of a figure without a range there were too few pictures, or another rule was asked for. */
const rangeOf = (range: readonly number[] | null | undefined, figure: number | null | undefined): string => {
  if (range) return between(range);
  return props.report.resamples && figure !== null && figure !== undefined ? "too few to tell" : "–";
};
const problems = props.report.problems ?? [];
const bounds = props.report.area_bounds ?? CONSTANTS.area_bounds;
const sizes = [
  { key: "small", said: `small, to ${bounds[0]}²` },
  { key: "medium", said: `medium, to ${bounds[1]}²` },
  { key: "large", said: "large, above" },
];
const ofSize = (held?: readonly number[] | null): string => `95 % range: ${rangeOf(held, null)}.`;
const precisionRule = `Precision averaged over recall by the ${props.report.interpolation} rule. A recall equal to a point reaches it: 7 of 20 found read precision at 0.35.`;
const range = props.report.resamples
  ? "Over many such sets of pictures, the mean of this figure lies in 95 of 100 such ranges. One other set of as " +
    "many pictures can well lie outside. From fewer than five pictures with a class it cannot be told. " +
    "Worked out by giving the pictures random weights 1,000 times (Bayesian bootstrap)."
  : "Ranges are worked out for the 101-point rule only.";
const counted = "Counted at IoU 0.5, from the minimum score above and after suppression, as in the line above.";
const byName = computed(() => new Map(props.counts.map((each) => [each.name, each])));
const worst = Object.entries(props.report.classes).reduce<string>(
  (found, [name, each]) =>
    each.ap50 !== null && (found === "" || each.ap50 < (props.report.classes[found]?.ap50 ?? 2)) ? name : found,
  "",
);
</script>

<template>
  <section data-test="figure-table">
    <table class="figures" data-test="class-figures">
      <thead>
        <tr>
          <th>Class</th>
          <th class="number"><Explained :says="precisionRule">AP at 0.5</Explained></th>
          <th class="number"><Explained :says="range">95 % range</Explained></th>
          <th class="number">at 0.50:0.95</th>
          <th class="number">95 % range</th>
          <th v-for="size in sizes" :key="size.key" class="number">
            <Explained
              says="AP at 0.50:0.95 of truths whose area in pixels lies there; in brackets how many there are."
              >{{ size.said }}</Explained
            >
          </th>
          <th class="number">Truths</th>
          <th class="number"><Explained :says="counted">Hits</Explained></th>
          <th class="number">False alarms</th>
          <th class="number">Missed</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(figures, name) in report.classes" :key="name" :class="{ worst: name === worst }">
          <td>
            <button type="button" :title="`Boxes of ${name}`" @click="emit('open', String(name))">{{ name }}</button>
            <span v-if="name === worst" class="soft">lowest</span>
          </td>
          <td class="number">
            <b>{{ precision(figures.ap50) }}</b>
          </td>
          <td class="number soft">{{ rangeOf(figures.ap50_interval, figures.ap50) }}</td>
          <td class="number">{{ precision(figures.ap) }}</td>
          <td class="number soft">{{ rangeOf(figures.ap_interval, figures.ap) }}</td>
          <td v-for="size in sizes" :key="size.key" class="number">
            <Explained v-if="figures.sizes?.[size.key]?.interval" :says="ofSize(figures.sizes[size.key]!.interval)">{{
              precision(figures.sizes[size.key]!.ap)
            }}</Explained>
            <template v-else>{{ precision(figures.sizes?.[size.key]?.ap) }}</template>
            {{ " "
            }}<small v-if="figures.sizes?.[size.key]" class="soft">({{ figures.sizes![size.key]!.truths }})</small>
          </td>
          <td class="number">{{ figures.truths }}</td>
          <td class="number">{{ byName.get(String(name))?.hits ?? "–" }}</td>
          <td class="number">{{ byName.get(String(name))?.false_alarms ?? "–" }}</td>
          <td class="number">{{ byName.get(String(name))?.misses ?? "–" }}</td>
        </tr>
        <tr class="mean">
          <td>Mean of classes</td>
          <td class="number">
            <b>{{ precision(report.map50) }}</b>
          </td>
          <td class="number soft">{{ rangeOf(report.map50_interval, report.map50) }}</td>
          <td class="number">{{ precision(report.map) }}</td>
          <td class="number soft">{{ rangeOf(report.map_interval, report.map) }}</td>
          <td v-for="size in sizes" :key="size.key" class="number">
            {{ precision(report.sizes?.[size.key]?.map) }}
            <small v-if="report.sizes?.[size.key]" class="soft">({{ report.sizes![size.key]!.truths }})</small>
            <div v-if="report.sizes?.[size.key]?.truths" class="soft range" :data-test="`range-${size.key}`">
              {{ rangeOf(report.sizes![size.key]!.interval, report.sizes![size.key]!.map) }}
            </div>
          </td>
          <td colspan="4" />
        </tr>
      </tbody>
    </table>
    <dl class="more" data-test="more-figures">
      <div>
        <dt>mAP at 0.75</dt>
        <dd>{{ precision(report.map75) }}</dd>
      </div>
      <div v-for="(value, limit) in report.recall" :key="limit">
        <dt>
          <Explained
            :says="`Average recall when each picture keeps the ${limit} predictions of a class with the highest scores.`"
            >Recall at {{ limit }}</Explained
          >
        </dt>
        <dd>{{ precision(value) }}</dd>
      </div>
      <div v-if="report.milliseconds">
        <dt><Explained says="From pixels to boxes, on this machine.">Time a picture</Explained></dt>
        <dd>{{ report.milliseconds.toFixed(0) }} ms</dd>
      </div>
    </dl>
    <p v-for="problem in problems" :key="problem" class="notice">{{ problem }}</p>
    <p v-if="problems.length" class="soft">{{ count(problems.length, "remark") }} on what was measured.</p>
  </section>
</template>

<style scoped>
.mean td {
  border-top: 1px solid var(--ink);
  border-bottom: 0;
}
th {
  font-size: 13px;
  vertical-align: bottom;
}
td,
th {
  padding-right: 10px;
}
.worst td {
  background: color-mix(in srgb, var(--brick) 7%, transparent);
}
button {
  border: 0;
  background: none;
  padding: 0;
  font: inherit;
  color: inherit;
  cursor: pointer;
  text-decoration: underline;
  text-decoration-color: var(--rule);
}
.more {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 28px;
  margin: 12px 0 0;
  font-size: 14px;
}
.more > div {
  display: flex;
  gap: 7px;
}
.more dt {
  color: var(--ink-soft);
}
.more dd {
  margin: 0;
  font-variant-numeric: tabular-nums;
}
.range {
  font-size: 12px;
  white-space: nowrap;
}
.worst td:first-child .soft {
  margin-left: 6px;
}
</style>
