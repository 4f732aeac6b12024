<script setup lang="ts">
/** The arithmetic of one cell and anchor, with its very numbers. */
import { computed } from "vue";

import type { Anatomy, Arithmetic } from "@/api/client";
import type { Cell } from "@/views/anatomy/anatomyLayer";

const props = defineProps<{ anatomy: Anatomy; cell: Cell | null; made: Arithmetic | null; step: number }>();
const emit = defineEmits<{ anchor: [anchor: number]; step: [step: number]; find: [number: number] }>();
const number = (value: number | undefined, digits = 2): string => (value ?? 0).toFixed(digits).replace("-", "−");
const pixels = (value: number): string => `${number(value, 1)} px`;
const level = computed(() => (props.cell ? props.anatomy.levels[props.cell.level] : undefined));
const plus = (value: number): string => (value < 0 ? `− ${number(-value)}` : `+ ${number(value)}`);
const axis = (index: 0 | 1) => {
  const made = props.made!;
  return {
    name: index ? "y" : "x",
    middle: index ? "row" : "column",
    cell: made.cell[index],
    t: made.raw[index],
    sigma: made.sigmoid[index],
    reached: made.reach * (made.sigmoid[index] - 0.5),
    cells: made.centre_cells[index],
    centre: made.centre[index],
    tSize: made.raw[index + 2],
    anchor: made.anchor[index],
    size: made.size[index],
    scale: made.scale[index],
    offset: made.offset[index],
    input: [made.in_input[index], made.in_input[index + 2]] as [number, number],
    picture: [made.in_picture[index], made.in_picture[index + 2]] as [number, number],
    uncut: [made.unclipped[index], made.unclipped[index + 2]] as [number, number],
  };
};
const steps = ["The anchor in its cell", "Move its middle", "Change its size", "Back to the picture"];
const cut = computed(() =>
  props.made?.unclipped.some((value, index) => Math.abs(value - props.made!.in_picture[index]!) > 0.05),
);
</script>

<template>
  <div class="cell" data-test="cell-panel">
    <p v-if="!cell || !made || !level" class="soft">
      Click a cell of the picture: each anchor of a cell answers with its own numbers.
    </p>
    <template v-else>
      <p>
        <b>Stride {{ made.stride }}, row {{ cell.row }}, column {{ cell.column }}</b
        >: one cell is {{ made.stride }} × {{ made.stride }} px of the {{ anatomy.input[0] }} ×
        {{ anatomy.input[1] }} input.
      </p>
      <el-radio-group
        :model-value="cell.anchor"
        size="small"
        aria-label="Anchor"
        data-test="anchor-choice"
        @update:model-value="emit('anchor', Number($event))">
        <el-radio-button v-for="(size, index) in level.anchors" :key="index" :value="index"
          >{{ Math.round(size[0]) }} × {{ Math.round(size[1]) }}</el-radio-button
        >
      </el-radio-group>
      <table class="raw" aria-label="Raw numbers">
        <thead>
          <tr>
            <th>t<sub>x</sub></th>
            <th>t<sub>y</sub></th>
            <th>t<sub>w</sub></th>
            <th>t<sub>h</sub></th>
            <th>t<sub>o</sub></th>
          </tr>
        </thead>
        <tbody>
          <tr>
            <td v-for="(value, index) in made.raw" :key="index">{{ number(value, 3) }}</td>
          </tr>
        </tbody>
      </table>
      <ol>
        <li v-for="(title, index) in steps" :key="title" :class="{ here: step === index }">
          <button type="button" :aria-pressed="step === index" data-test="step" @click="emit('step', index)">
            {{ title }}
          </button>
          <div v-if="index === 0" class="sum">
            anchor {{ number(made.anchor[0], 1) }} × {{ number(made.anchor[1], 1) }} px about ({{
              number((cell.column + 0.5) * made.stride, 1)
            }}, {{ number((cell.row + 0.5) * made.stride, 1) }})
          </div>
          <template v-for="each in [axis(0), axis(1)]" v-else-if="index === 1" :key="each.name">
            <div class="sum">
              {{ each.name }} = ({{ each.cell }} + 0.5 + {{ number(made.reach, 0) }}·(σ({{ number(each.t, 3) }}) − 0.5))
              · {{ made.stride }}
            </div>
            <div class="sum more">
              = ({{ each.cell }} + 0.5 {{ plus(each.reached) }}) · {{ made.stride }} = {{ number(each.cells) }} ·
              {{ made.stride }} = <b>{{ pixels(each.centre) }}</b>
            </div>
          </template>
          <template v-for="each in [axis(0), axis(1)]" v-else-if="index === 2" :key="each.name">
            <div class="sum">
              {{ each.name === "x" ? "width" : "height" }} = {{ number(each.anchor, 1) }} · exp({{
                number(each.tSize, 3)
              }}) = <b>{{ pixels(each.size) }}</b>
            </div>
          </template>
          <template v-for="each in [axis(0), axis(1)]" v-else :key="each.name">
            <div class="sum">
              {{ each.name }}: ({{ number(each.input[0], 1) }} − {{ each.offset }}) / {{ number(each.scale, 4) }} =
              <b>{{ number(each.uncut[0], 1) }}</b>, ({{ number(each.input[1], 1) }} − {{ each.offset }}) /
              {{ number(each.scale, 4) }} = <b>{{ number(each.uncut[1], 1) }}</b>
            </div>
          </template>
          <div v-if="index === 3 && cut" class="sum more">
            cut to the picture: {{ made.in_picture.map((value) => number(value, 1)).join(", ") }}
          </div>
        </li>
      </ol>
      <div class="sum">
        objectness σ({{ number(made.raw[4], 3) }}) = <b>{{ number(made.sigmoid[2], 3) }}</b>
      </div>
      <table class="figures classes">
        <thead>
          <tr>
            <th>Class</th>
            <th class="number">Logit</th>
            <th class="number">σ</th>
            <th class="number">· objectness</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(name, index) in anatomy.class_names" :key="name" :class="{ best: index === made.best }">
            <td>{{ name }}</td>
            <td class="number">{{ number(made.logits[index]!, 2) }}</td>
            <td class="number">{{ number(made.probabilities[index]!, 3) }}</td>
            <td class="number">{{ number(made.probabilities[index]! * made.sigmoid[2], 3) }}</td>
          </tr>
        </tbody>
      </table>
      <p>
        The box is a <b>{{ anatomy.class_names[made.best] }}</b> with score
        <b data-test="cell-score">{{ number(made.score, 3) }}</b><template v-if="anatomy.calibrated"
          >, calibrated from {{ number(made.product, 3) }}</template
        >.
        <el-button link type="primary" data-test="follow-box" @click="emit('find', made.number)"
          >What became of it?</el-button
        >
      </p>
    </template>
  </div>
</template>

<style scoped>
.cell {
  display: grid;
  gap: 8px;
  font-size: 14px;
}
.raw {
  border-collapse: collapse;
  width: 100%;
}
.raw th,
.raw td {
  border: 1px solid var(--rule);
  padding: 2px 6px;
  text-align: center;
  font-weight: 400;
}
.raw th {
  font-style: italic;
  color: var(--ink-soft);
}
ol {
  margin: 0;
  padding: 0;
  list-style: none;
  display: grid;
  gap: 4px;
  counter-reset: step;
}
li {
  border-left: 3px solid transparent;
  padding-left: 8px;
}
li.here {
  border-left-color: var(--leg);
  background: var(--leg-pale);
}
li button {
  border: 0;
  background: none;
  padding: 0;
  font: inherit;
  font-weight: 600;
  color: var(--leg-deep);
  cursor: pointer;
}
.sum {
  font-size: 13px;
}
.more {
  padding-left: 12px;
}
.classes td,
.classes th {
  padding-top: 1px;
  padding-bottom: 1px;
  font-size: 13px;
}
.best td {
  font-weight: 700;
}
</style>
