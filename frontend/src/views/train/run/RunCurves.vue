<script setup lang="ts">
/** Losses by part, precision, learning rate; and the best epoch by class. */
import { computed, ref } from "vue";

import type { Epoch, Run } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import { precision, threshold } from "@/parts/format";
import LineChart from "@/parts/charts/LineChart.vue";

const props = defineProps<{ run: Run; epochs: Epoch[]; steps: [number, number][]; xTop: number }>();
const what = ref<"all" | "parts" | "rate">("all");
const whats = [
  { value: "all", label: "Loss" },
  { value: "parts", label: "Loss by part" },
  { value: "rate", label: "Learning rate" },
];
const validated = computed(() => props.epochs.filter((each) => each.validation));
const best = computed(() => props.epochs.find((each) => each.epoch === props.run.best_epoch)?.validation);
const total = (each: { box: number; objectness: number; classes: number }): number =>
  each.box + each.objectness + each.classes;
type Points = [number, number][];

const lossCurves = computed(() => {
  if (what.value === "rate")
    return [
      {
        name: "Learning rate",
        colour: "#4A7397",
        points: props.epochs.map((each): [number, number] => [each.epoch, each.learning_rate]),
      },
    ];
  if (what.value === "all")
    return [
      { name: "Loss by step", colour: "#A9B8C9", points: props.steps },
      {
        name: "Training loss",
        colour: "#4A7397",
        points: props.epochs.map((each): [number, number] => [each.epoch, total(each)]),
      },
      {
        name: "Validation loss",
        colour: "#B5492F",
        dashed: true,
        points: validated.value.map((each): [number, number] => [each.epoch, total(each.validation!)]),
      },
    ];
  const parts = [
    ["box", "Box", "#4A7397"],
    ["objectness", "Objectness", "#8A6A2F"],
    ["classes", "Class", "#51623F"],
  ] as const;
  return parts.flatMap(([key, name, colour]) => [
    { name, colour, points: props.epochs.map((each): [number, number] => [each.epoch, each[key]]) as Points },
    {
      name: `${name}, validation`,
      colour,
      dashed: true,
      points: validated.value.map((each): [number, number] => [each.epoch, each.validation![key]]) as Points,
    },
  ]);
});
const precisionCurves = computed(() => [
  {
    name: "mAP at 0.5",
    colour: "#51623F",
    points: validated.value.map((each): [number, number] => [each.epoch, each.validation!.map50]),
  },
  {
    name: "mAP at 0.50:0.95",
    colour: "#8A6A2F",
    dashed: true,
    points: validated.value.map((each): [number, number] => [each.epoch, each.validation!.map]),
  },
]);
</script>

<template>
  <div class="curves">
    <el-radio-group v-model="what" size="small" aria-label="Left curve">
      <el-radio-button v-for="each in whats" :key="each.value" :value="each.value">{{ each.label }}</el-radio-button>
    </el-radio-group>
    <span class="soft small">Wheel zooms, dragging moves; point at a curve to read it.</span>
    <LineChart
      :curves="lossCurves"
      x-name="Epoch"
      :x-top="xTop"
      :digits="what === 'rate' ? 5 : 3"
      label="Loss or learning rate over epochs" />
    <LineChart
      :curves="precisionCurves"
      x-name="Epoch"
      :x-top="xTop"
      :top="1"
      label="Mean average precision over epochs" />
    <section class="classes">
      <h2>Best epoch by class</h2>
      <p v-if="!best" class="soft">The first validation is yet to come.</p>
      <table v-else class="figures">
        <thead>
          <tr>
            <th>Class</th>
            <th class="number">AP at 0.5</th>
            <th class="number">AP at 0.50:0.95</th>
            <th class="number">Truths</th>
            <th class="number">Predicted above {{ threshold(best.minimum_score ?? CONSTANTS.minimum_score) }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(figures, name) in best.by_class" :key="name">
            <td>{{ name }}</td>
            <td class="number">{{ precision(figures.ap50) }}</td>
            <td class="number">{{ precision(figures.ap) }}</td>
            <td class="number">{{ figures.truths }}</td>
            <td class="number">{{ figures.predicted ?? "–" }}</td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
</template>

<style scoped>
.curves {
  display: grid;
  grid-template: auto 250px auto / 1fr 1fr;
  gap: 6px 22px;
  align-items: center;
}
.curves > * {
  min-width: 0;
}
.classes {
  grid-column: 1 / -1;
}
.small {
  font-size: 13px;
  text-align: right;
}
</style>
