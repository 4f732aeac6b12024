<script setup lang="ts">
/** What lines and regions count, by class and side; every crossing is a click away from its frame. */
import { computed, ref } from "vue";

import { api, type Counted, type Shape, take } from "@/api/client";
import Explained from "@/parts/Explained.vue";
import { count } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo } from "@/state/notes";

const props = defineProps<{ detectionId: number; clip: number }>();
const counted = defineModel<Counted[]>("counted", { required: true });
const drawing = defineModel<"line" | "region" | null>("drawing", { required: true });
const chosen = defineModel<number | null>("chosen", { required: true });
const emit = defineEmits<{ go: [place: number, object: number] }>();
const failed = ref("");

const params = computed(() => ({
  path: { detection_id: props.detectionId },
  query: { clip: props.clip },
}));

async function load(): Promise<void> {
  try {
    counted.value = (
      await take(api.GET("/api/v1/detections/{detection_id}/counting", { params: params.value }))
    ).counted;
  } catch (error) {
    failed.value = error instanceof Error ? error.message : String(error);
  }
}
async function keep(shapes: Shape[]): Promise<void> {
  try {
    const body = { shapes };
    counted.value = (
      await take(api.PUT("/api/v1/detections/{detection_id}/counting", { params: params.value, body }))
    ).counted;
  } catch (error) {
    complain(error);
  }
}
const shapes = (): Shape[] => counted.value.map((each) => each.shape);

async function add(kind: "line" | "region", points: [number, number][]): Promise<void> {
  const before = shapes();
  const number = before.filter((each) => each.kind === kind).length + 1;
  const name = kind === "line" ? `Line ${number}` : `Region ${number}`;
  // A level line has an upper and a lower side, an upright one a left and a right.
  const [a, b] = points as [[number, number], [number, number]];
  const level = Math.abs(b[0] - a[0]) > Math.abs(b[1] - a[1]);
  const forward = level ? b[0] > a[0] : b[1] < a[1];
  const sides: [string, string] = level ? ["above", "below"] : ["left", "right"];
  if (!forward) sides.reverse();
  drawing.value = null;
  await keep([...before, { kind, name, points, sides }]);
  chosen.value = before.length;
  sayWithUndo(`${name} added`, () => keep(before));
}
defineExpose({ add, load });

async function remove(index: number): Promise<void> {
  const before = shapes();
  await keep(before.filter((_, place) => place !== index));
  chosen.value = null;
  sayWithUndo(`${before[index]!.name || "It"} removed`, () => keep(before));
}
function rename(index: number, change: Partial<Shape>): void {
  void keep(shapes().map((each, place) => (place === index ? { ...each, ...change } : each)));
}
function draw(kind: "line" | "region"): void {
  drawing.value = drawing.value === kind ? null : kind;
}
function valueOf(event: Event): string {
  return (event.target as HTMLInputElement).value;
}
const rows = (each: Counted): { name: string; forward: number; back: number }[] =>
  Object.keys(each.forward)
    .map((name) => ({ name, forward: each.forward[name] ?? 0, back: each.back[name] ?? 0 }))
    .filter((row) => row.forward || row.back);
const sum = (counts: Record<string, number>): number => Object.values(counts).reduce((all, each) => all + each, 0);

void load();
useKeys([
  { keys: ["n"], label: "New line", run: () => draw("line") },
  { keys: ["Shift+n"], label: "New region", run: () => draw("region") },
]);
</script>

<template>
  <section class="counts" data-test="counts">
    <header>
      <Explained
        says="An object counts once it is clearly over the line: by a twentieth of its box. Drawn from left to right, the first side is the upper one."
        ><b>Count</b></Explained
      >
      <span v-if="!failed" class="tools">
        <el-button
          v-hint="'New line'"
          size="small"
          :type="drawing === 'line' ? 'primary' : ''"
          data-test="new-line"
          @click="draw('line')"
          >Line</el-button
        >
        <el-button
          v-hint="'New region'"
          size="small"
          :type="drawing === 'region' ? 'primary' : ''"
          data-test="new-region"
          @click="draw('region')"
          >Region</el-button
        >
        <a v-if="counted.length" :href="`/api/v1/detections/${detectionId}/counting.csv?clip=${clip}`" download
          ><el-button tag="span" size="small">CSV</el-button></a
        >
      </span>
    </header>
    <p v-if="failed" class="soft">{{ failed }}</p>
    <p v-else-if="drawing === 'line'" class="soft">Draw from end to end over the picture.</p>
    <p v-else-if="drawing === 'region'" class="soft">Click the corners; the first one or Enter closes it.</p>
    <p v-else-if="!counted.length" class="soft">Draw a line that objects go over, or a region they are in.</p>
    <div
      v-for="(each, index) in counted"
      :key="index"
      class="one"
      :class="{ chosen: index === chosen }"
      data-test="counted"
      @click="chosen = index">
      <div class="title">
        <input
          :value="each.shape.name"
          :aria-label="`Name of ${each.shape.kind} ${index + 1}`"
          maxlength="60"
          @change="rename(index, { name: valueOf($event) })" />
        <el-button link size="small" :aria-label="`Remove ${each.shape.name}`" @click.stop="remove(index)"
          >Remove</el-button
        >
      </div>
      <template v-if="each.shape.kind === 'line'">
        <table>
          <thead>
            <tr>
              <th>to</th>
              <th v-for="side in [1, 0]" :key="side" class="number">
                <input
                  :value="each.shape.sides[side]"
                  :aria-label="`Name of side ${side + 1}`"
                  maxlength="60"
                  @change="
                    rename(index, {
                      sides: side ? [each.shape.sides[0], valueOf($event)] : [valueOf($event), each.shape.sides[1]],
                    })
                  " />
              </th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="row in rows(each)" :key="row.name">
              <td>{{ row.name }}</td>
              <td class="number">{{ row.forward }}</td>
              <td class="number">{{ row.back }}</td>
            </tr>
            <tr class="all">
              <td>all</td>
              <td class="number" data-test="over-forward">{{ sum(each.forward) }}</td>
              <td class="number" data-test="over-back">{{ sum(each.back) }}</td>
            </tr>
          </tbody>
        </table>
        <ul v-if="index === chosen" class="events">
          <li v-for="(row, number) in each.crossings" :key="number">
            <button
              type="button"
              data-test="crossing"
              @click.stop="emit('go', row.place as number, row.object as number)">
              <b>{{ row.object }}</b> {{ row.class }}
              <span class="soft"
                >{{ (row.seconds as number).toFixed(1) }} s, to {{ each.shape.sides[row.forward ? 1 : 0] }}</span
              >
            </button>
          </li>
        </ul>
      </template>
      <template v-else>
        <p>
          {{ count(sum(each.objects), "object was", "objects were") }} inside, at most
          <el-button link type="primary" @click.stop="emit('go', each.most_place, 0)"
            >{{ each.most }} at once, {{ each.most_seconds.toFixed(1) }} s</el-button
          >
        </p>
        <p class="soft">
          {{
            Object.entries(each.objects)
              .filter(([, number]) => number)
              .map(([name, number]) => `${name} ${number}`)
              .join(", ")
          }}
        </p>
        <ul v-if="index === chosen" class="events">
          <li v-for="(row, number) in each.stays" :key="number">
            <button type="button" @click.stop="emit('go', row.place as number, row.object as number)">
              <b>{{ row.object }}</b> {{ row.class }}
              <span class="soft"
                >{{ (row.first_seconds as number).toFixed(1) }} to {{ (row.last_seconds as number).toFixed(1) }} s</span
              >
            </button>
          </li>
        </ul>
      </template>
    </div>
  </section>
</template>

<style scoped>
.counts {
  padding: 12px 14px;
  border-bottom: 1px solid var(--rule);
  display: grid;
  gap: 8px;
}
header,
.title {
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 6px;
}
.tools .el-button {
  margin-left: 4px;
}
.one {
  border-left: 3px solid var(--rule);
  padding-left: 8px;
}
.one.chosen {
  border-left-color: var(--leg);
}
input {
  width: 100%;
  min-width: 0;
  border: 0;
  border-bottom: 1px dotted var(--sand);
  background: none;
  padding: 1px 0;
  font: inherit;
}
table {
  width: 100%;
  border-collapse: collapse;
}
th {
  font-weight: 400;
  color: var(--ink-soft);
  text-align: left;
}
th input {
  text-align: right;
}
.number {
  text-align: right;
  width: 74px;
}
.all td {
  border-top: 1px solid var(--ink);
  font-weight: 600;
}
.events {
  list-style: none;
  margin: 4px 0 0;
  padding: 0;
  max-height: 150px;
  overflow: auto;
}
.events button {
  width: 100%;
  border: 0;
  background: none;
  padding: 2px 4px;
  text-align: left;
  cursor: pointer;
  color: inherit;
}
.events button:hover {
  background: var(--paper-deep);
}
</style>
