<script setup lang="ts">
/** Which minimum score to use: a wish, and the score of each class that grants it. */
import { computed, reactive, ref, watch } from "vue";

import { api, type ClassOperating, type Run, take } from "@/api/client";
import LineChart from "@/parts/charts/LineChart.vue";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";
import { latestOnly } from "@/views/judge/figures/thresholds";

const props = defineProps<{ evaluationId: number; overlapLimit: number; run: Run | null }>();
const emit = defineEmits<{ use: [score: number]; saved: [run: Run] }>();
const store = useProject();
type Wish = "precision" | "recall" | "f1" | "price";
const wish = ref<Wish>("f1");
const given = reactive({ amount: 95, miss: 5, alarm: 1 });
const classes = ref<ClassOperating[]>([]);
const shown = ref("");
const wishes = [
  { value: "f1", label: "Best F1" },
  { value: "precision", label: "At least this precision" },
  { value: "recall", label: "At least this recall" },
  { value: "price", label: "Least price" },
];

const load = latestOnly(async () => {
  try {
    const query = {
      wish: wish.value,
      amount: given.amount / 100,
      miss_price: given.miss,
      alarm_price: given.alarm,
      overlap_limit: props.overlapLimit,
    };
    const found = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}/operating", {
        params: { path: { evaluation_id: props.evaluationId }, query },
      }),
    );
    classes.value = found.classes;
    if (!found.classes.some((each) => each.name === shown.value)) shown.value = found.classes[0]?.name ?? "";
  } catch (error) {
    complain(error);
  }
});
watch([wish, given, () => props.overlapLimit], load, { immediate: true, deep: true });

/** They come as they are shown: at three digits, with the figures that exactly these give. */
const chosenScores = computed(() =>
  Object.fromEntries(classes.value.flatMap((each) => (each.score === null ? [] : [[each.name, each.score]]))),
);
async function keep(scores: Record<string, number>): Promise<void> {
  if (!props.run) return;
  try {
    emit(
      "saved",
      await take(
        api.PUT("/api/v1/runs/{run_id}/minimum-scores", {
          params: { path: { run_id: props.run.id } },
          body: { scores },
        }),
      ),
    );
  } catch (error) {
    complain(error);
  }
}
async function save(): Promise<void> {
  if (!props.run) return;
  const before = props.run.minimum_scores;
  await keep(chosenScores.value);
  sayWithUndo(`${props.run.name} is used with these minimum scores from now on`, () => keep(before));
}
useKeys([{ keys: ["Ctrl+s"], label: "Save the minimum scores with the model", run: save }]);

const current = computed(() => classes.value.find((each) => each.name === shown.value));
const curves = computed(() => {
  const points = [...(current.value?.curve ?? [])].reverse();
  const f1 = (p: number, r: number): number => (p + r ? (2 * p * r) / (p + r) : 0);
  return [
    { name: "Precision", colour: "#4A7397", points: points.map(([s, p]): [number, number] => [s, p]) },
    { name: "Recall", colour: "#B5492F", dashed: true, points: points.map(([s, , r]): [number, number] => [s, r]) },
    { name: "F1", colour: "#51623F", points: points.map(([s, p, r]): [number, number] => [s, f1(p, r)]) },
  ];
});
const figure = (value: number | null): string => (value === null ? "–" : value.toFixed(3));
const colour = (name: string): string => store.classes.find((each) => each.name === name)?.colour ?? "#A9B8C9";
</script>

<template>
  <section class="chooser" data-test="chooser">
    <header>
      <h2>Which minimum score?</h2>
      <el-select v-model="wish" size="small" aria-label="What matters" class="wish" data-test="wish"
        ><el-option v-for="each in wishes" :key="each.value" v-bind="each"
      /></el-select>
      <label v-if="wish === 'precision' || wish === 'recall'"
        ><el-input-number v-model="given.amount" :min="1" :max="100" size="small" aria-label="Per cent" /> %</label
      >
      <template v-if="wish === 'price'">
        <label
          >A miss <el-input-number v-model="given.miss" :min="0.01" :step="1" size="small" aria-label="Price of a miss"
        /></label>
        <label
          >A false alarm
          <el-input-number v-model="given.alarm" :min="0.01" :step="1" size="small" aria-label="Price of a false alarm"
        /></label>
      </template>
    </header>
    <div class="both">
      <table class="figures">
        <thead>
          <tr>
            <th>Class</th>
            <th class="number">Minimum score</th>
            <th class="number">Precision</th>
            <th class="number">Recall</th>
            <th class="number">F1</th>
            <th />
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="each in classes"
            :key="each.name"
            :class="{ chosen: each.name === shown }"
            data-test="operating-row">
            <td>
              <button type="button" @click="shown = each.name">
                <i :style="{ background: colour(each.name) }" />{{ each.name }}
              </button>
            </td>
            <td class="number">
              <b>{{ figure(each.score) }}</b>
            </td>
            <td class="number">{{ figure(each.precision) }}</td>
            <td class="number">{{ figure(each.recall) }}</td>
            <td class="number">{{ figure(each.f1) }}</td>
            <td>
              <el-button v-if="each.score !== null" link type="primary" size="small" @click="emit('use', each.score)"
                >Use here</el-button
              ><span v-else class="soft">no score does</span>
            </td>
          </tr>
        </tbody>
        <tfoot v-if="run">
          <tr>
            <td colspan="6">
              <el-button
                v-hint="'Save the minimum scores with the model'"
                type="primary"
                size="small"
                data-test="save-scores"
                :disabled="!Object.keys(chosenScores).length"
                @click="save"
                >Save with {{ run.name }}</el-button
              >
              <span v-if="Object.keys(run.minimum_scores).length" class="soft" data-test="saved-scores">
                Saved now:
                {{
                  Object.entries(run.minimum_scores)
                    .map(([name, score]) => `${name} ${score.toFixed(3)}`)
                    .join(", ")
                }}</span
              >
              <span v-else class="soft"> Use and <code>avocet detect</code> then take them by themselves.</span>
            </td>
          </tr>
        </tfoot>
      </table>
      <LineChart
        :curves="curves"
        x-name="Minimum score"
        :x-top="1"
        :top="1"
        :label="`Precision, recall and F1 of ${shown} against the minimum score`" />
    </div>
  </section>
</template>

<style scoped>
header {
  display: flex;
  gap: 16px;
  align-items: center;
  margin-bottom: 6px;
  flex-wrap: wrap;
}
.wish {
  width: 200px;
}
label {
  display: flex;
  gap: 6px;
  align-items: center;
}
.both {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 26px;
  min-height: 230px;
}
td {
  padding-top: 3px;
  padding-bottom: 3px;
}
tr.chosen td {
  background: var(--leg-pale);
}
button:not(.el-button) {
  border: 0;
  background: none;
  padding: 0;
  font: inherit;
  color: inherit;
  cursor: pointer;
  text-decoration: underline;
  text-decoration-color: var(--rule);
}
i {
  display: inline-block;
  width: 9px;
  height: 9px;
  margin-right: 7px;
}
</style>
