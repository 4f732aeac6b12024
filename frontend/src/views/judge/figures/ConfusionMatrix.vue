<script setup lang="ts">
/** Who was taken for whom; a cell opens exactly the boxes behind it. */
import { computed, ref, watch } from "vue";

import { api, type ConfusedBox, type Confusion, take } from "@/api/client";
import { count } from "@/parts/format";
import { complain } from "@/state/notes";
import BoxCrops from "@/views/judge/figures/BoxCrops.vue";
import { latestOnly } from "@/views/judge/figures/thresholds";

const props = defineProps<{
  evaluationId: number;
  minimumScore: number;
  overlapLimit: number;
  query: Record<string, string>;
}>();
const iou = ref(0.5);
const shares = ref(false);
const made = ref<Confusion | null>(null);
const open = ref<[number, number] | null>(null);
const boxes = ref<ConfusedBox[]>([]);
const total = ref(0);

const asked = computed(() => ({
  minimum_score: props.minimumScore,
  overlap_limit: props.overlapLimit,
  iou: iou.value,
}));
const load = latestOnly(async () => {
  try {
    made.value = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}/confusion", {
        params: { path: { evaluation_id: props.evaluationId }, query: asked.value },
      }),
    );
    if (open.value) await show(...open.value);
  } catch (error) {
    complain(error);
  }
});
watch(asked, load, { immediate: true, deep: true });

async function show(row: number, column: number): Promise<void> {
  open.value = [row, column];
  try {
    const found = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}/confusion/cell", {
        params: { path: { evaluation_id: props.evaluationId }, query: { ...asked.value, row, column } },
      }),
    );
    boxes.value = found.boxes;
    total.value = found.total;
  } catch (error) {
    complain(error);
  }
}

const names = computed(() => made.value?.class_names ?? []);
const rows = computed(() => [...names.value, "background"]);
const columns = computed(() => [...names.value, "not found"]);
const sums = computed(() => (made.value?.counts ?? []).map((row) => row.reduce((sum, value) => sum + value, 0)));
function shown(row: number, column: number): string {
  const value = made.value?.counts[row]?.[column] ?? 0;
  if (!value) return row === names.value.length && column === row ? "" : "·";
  return shares.value ? `${Math.round((100 * value) / Math.max(1, sums.value[row] ?? 1))} %` : String(value);
}
function tint(row: number, column: number): string {
  const value = (made.value?.counts[row]?.[column] ?? 0) / Math.max(1, sums.value[row] ?? 1);
  const strength = Math.round(38 * Math.sqrt(value));
  return value
    ? `color-mix(in srgb, var(${row === column ? "--reed" : "--brick"}) ${strength}%, transparent)`
    : "transparent";
}
const crops = computed(() =>
  boxes.value.map((box) => ({ ...box, caption: box.score === null ? box.name : box.score.toFixed(2) })),
);
</script>

<template>
  <section class="confusion" data-test="confusion">
    <header>
      <h2>Confusion matrix</h2>
      <el-checkbox v-model="shares" size="small">Shares of a row</el-checkbox>
      <label
        >IoU
        <el-input-number v-model="iou" :min="0.05" :max="0.95" :step="0.05" size="small" aria-label="IoU of a match"
      /></label>
    </header>
    <div v-if="made" class="both">
      <table>
        <thead>
          <tr>
            <td class="corner">true ↓ predicted →</td>
            <th v-for="name in columns" :key="name" scope="col">
              <span>{{ name }}</span>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(name, row) in rows" :key="name">
            <th scope="row">{{ name }}</th>
            <td
              v-for="(other, column) in columns"
              :key="other"
              :style="{ background: tint(row, column) }"
              :class="{ open: open?.[0] === row && open?.[1] === column }">
              <button
                type="button"
                :disabled="!made.counts[row]?.[column]"
                :aria-label="`${name} taken for ${other}: ${made.counts[row]?.[column]}`"
                data-test="cell"
                @click="show(row, column)">
                {{ shown(row, column) }}
              </button>
            </td>
          </tr>
        </tbody>
      </table>
      <div class="behind">
        <p v-if="!open" class="soft">Click a number to see the boxes behind it.</p>
        <template v-else>
          <p data-test="behind">
            <b>{{ count(total, "box", "boxes") }}</b>: {{ rows[open[0]] }}, predicted {{ columns[open[1]]
            }}{{ total > boxes.length ? `; the first ${boxes.length}` : "" }}
          </p>
          <BoxCrops :evaluation-id="evaluationId" :boxes="crops" :query="query" />
        </template>
      </div>
    </div>
  </section>
</template>

<style scoped>
header {
  display: flex;
  gap: 22px;
  align-items: center;
  margin-bottom: 6px;
}
label {
  display: flex;
  gap: 8px;
  align-items: center;
}
.both {
  display: grid;
  grid-template-columns: auto minmax(0, 1fr);
  gap: 26px;
  align-items: start;
}
table {
  border-collapse: collapse;
}
th {
  font-weight: 600;
  font-size: 13px;
  padding: 2px 8px;
  text-align: right;
}
thead th {
  max-width: 86px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  text-align: center;
}
.corner {
  font-size: 12px;
  color: var(--ink-soft);
}
td {
  border: 1px solid var(--rule);
  padding: 0;
}
td.corner {
  border: 0;
  padding-right: 8px;
}
td.open {
  outline: 2px solid var(--leg);
}
button {
  width: 100%;
  min-width: 52px;
  border: 0;
  background: none;
  padding: 5px 8px;
  font: inherit;
  color: inherit;
  cursor: pointer;
}
button:disabled {
  cursor: default;
  color: var(--ink-soft);
}
</style>
