<script setup lang="ts">
/** From all candidates to the boxes that are left, and what became of a chosen one. */
import { computed } from "vue";

import type { Anatomy, Candidate, Fates } from "@/api/client";
import { threshold } from "@/parts/format";
import { SUPPRESSIONS, type Suppression } from "@/views/anatomy/suppressions";

const props = defineProps<{
  anatomy: Anatomy;
  fates: Fates | null;
  kept: Partial<Record<Suppression, number[]>>;
  selected: Candidate | null;
  truth: number | null;
  near: Candidate[];
  minimumScore: number;
  overlapLimit: number;
}>();
const suppression = defineModel<Suppression>("suppression", { required: true });
const sigma = defineModel<number>("sigma", { required: true });
const most = defineModel<number>("most", { required: true });
const showDropped = defineModel<boolean>("dropped", { required: true });
const emit = defineEmits<{ choose: [candidate: Candidate] }>();

const names = ["all candidates", "above the minimum score", "the best of them", "after suppression"];
const widest = computed(() => Math.log10(1 + (props.fates?.funnel[0] ?? 1)));
const width = (value: number): string => `${(100 * Math.log10(1 + value)) / widest.value}%`;
/** How each way differs from greedy suppression class by class. */
function differs(way: Suppression): string {
  const mine = props.kept[way];
  const plain = props.kept["by class"];
  if (!mine || !plain) return "";
  const more = mine.filter((number) => !plain.includes(number)).length;
  const fewer = plain.filter((number) => !mine.includes(number)).length;
  return more || fewer ? `${more ? `+${more}` : ""}${more && fewer ? " " : ""}${fewer ? `−${fewer}` : ""}` : "the same";
}
const by = computed(() => props.fates?.candidates.find((each) => each.number === props.selected?.suppressor));
const name = (each: Candidate): string => props.anatomy.class_names[each.class_index]!;
const fate = (each: Candidate): string => {
  if (each.fate === "dropped" && each.suppressor !== null) return `dropped at IoU ${each.overlap!.toFixed(2)}`;
  if (each.fate === "below the minimum score") return `score under ${threshold(props.minimumScore)}`;
  return each.fate;
};
</script>

<template>
  <div class="funnel" data-test="funnel-panel">
    <table v-if="fates" class="steps" data-test="funnel">
      <tbody>
        <tr v-for="(value, index) in fates.funnel" :key="index">
          <td class="number">
            <b>{{ value.toLocaleString("en") }}</b>
          </td>
          <td class="bar" aria-hidden="true"><i :style="{ width: width(value) }" /></td>
          <td>{{ names[index] }}</td>
        </tr>
      </tbody>
    </table>
    <label class="row"
      >Looked at, at most
      <el-input-number v-model="most" :min="1" :max="100000" :step="50" size="small" aria-label="Candidates looked at"
    /></label>
    <table class="ways">
      <thead>
        <tr>
          <th>Suppression</th>
          <th class="number">Kept</th>
          <th class="number">Against by class</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="way in SUPPRESSIONS" :key="way.value" :class="{ here: way.value === suppression }">
          <td>
            <label
              ><input
                v-model="suppression"
                type="radio"
                name="suppression"
                :value="way.value"
                :data-test="`way-${way.value.replace(' ', '-')}`" />
              {{ way.label }}</label
            >
          </td>
          <td class="number">{{ kept[way.value]?.length ?? "–" }}</td>
          <td class="number soft">{{ way.value === "by class" ? "" : differs(way.value) }}</td>
        </tr>
      </tbody>
    </table>
    <label v-if="suppression === 'gaussian'" class="row"
      >Sigma <el-input-number v-model="sigma" :min="0.05" :max="10" :step="0.05" size="small" aria-label="Sigma"
    /></label>
    <el-checkbox v-model="showDropped" size="small">Show dropped boxes</el-checkbox>
    <section v-if="selected" class="fate" data-test="fate">
      <b>{{ name(selected) }} {{ selected.score.toFixed(3) }}</b
      >, stride {{ anatomy.levels[selected.level]!.stride }}, row {{ selected.row }}, column {{ selected.column }}:
      <template v-if="selected.fate === 'dropped' && by">
        dropped by the
        <el-button link type="primary" @click="emit('choose', by)">{{ name(by) }} {{ by.score.toFixed(3) }}</el-button>
        that it overlaps at IoU <b>{{ selected.overlap!.toFixed(3) }}</b>, above {{ overlapLimit.toFixed(2) }}.
        <template v-if="selected.left_score < selected.score"
          >Its score was lowered to {{ selected.left_score.toFixed(3) }}.</template
        >
      </template>
      <template v-else-if="selected.fate === 'dropped'"
        >its score was lowered to {{ selected.left_score.toFixed(3) }}, under {{ threshold(minimumScore) }}.</template
      >
      <template v-else-if="selected.fate === 'kept'"
        >kept{{
          selected.left_score < selected.score ? `, with its score lowered to ${selected.left_score.toFixed(3)}` : ""
        }}.</template
      >
      <template v-else>{{ fate(selected) }}.</template>
    </section>
    <section v-if="truth !== null" class="fate" data-test="near-truth">
      <b>Truth: {{ anatomy.class_names[anatomy.truths[truth]!.class_index] }}</b>
      <p v-if="!near.length">No candidate overlaps it by 0.1 or more.</p>
      <table v-else class="figures">
        <thead>
          <tr>
            <th>Nearest</th>
            <th class="number">IoU</th>
            <th class="number">Score</th>
            <th>What became of it</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="each in near" :key="each.number">
            <td>
              <button type="button" class="plain" @click="emit('choose', each)">{{ name(each) }}</button>
            </td>
            <td class="number">{{ each.truth_overlap?.toFixed(2) }}</td>
            <td class="number">{{ each.score.toFixed(3) }}</td>
            <td>{{ fate(each) }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <p v-if="!selected && truth === null" class="soft">
      Click a box to see what became of it, or a truth (broken line) for the candidates near it.
    </p>
  </div>
</template>

<style scoped>
.funnel {
  display: grid;
  gap: 10px;
  font-size: 14px;
}
.steps,
.ways {
  border-collapse: collapse;
  width: 100%;
}
.steps td {
  padding: 3px 8px 3px 0;
}
.number {
  text-align: right;
}
.bar {
  width: 130px;
}
.bar i {
  display: block;
  height: 13px;
  background: var(--leg);
  min-width: 2px;
}
.ways th {
  text-align: left;
  font-weight: 600;
  color: var(--ink-soft);
  border-bottom: 1px solid var(--ink);
}
.ways th.number {
  text-align: right;
}
.ways td {
  border-bottom: 1px solid var(--rule);
  padding: 3px 0;
}
.ways .here td {
  background: var(--leg-pale);
}
.ways input {
  accent-color: var(--leg);
}
.row {
  display: flex;
  gap: 10px;
  align-items: center;
}
.fate {
  border-left: 3px solid var(--leg);
  padding-left: 10px;
}
.plain {
  border: 0;
  background: none;
  padding: 0;
  color: var(--leg-deep);
  text-decoration: underline;
  cursor: pointer;
}
.fate td,
.fate th {
  padding-top: 2px;
  padding-bottom: 2px;
  font-size: 13px;
}
</style>
