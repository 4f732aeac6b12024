<script setup lang="ts">
/** Anchors: boxes and clusters on a log-log plot, each drawn to scale, how well they fit, changed by hand. */
import { computed, onMounted, ref, watch } from "vue";

import { api, take } from "@/api/client";
import { capital, count } from "@/parts/format";
import PlainChart from "@/parts/charts/PlainChart.vue";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import { type Draft, lookAhead, type Seen } from "@/views/train/ahead/runSettings";

const props = defineProps<{ draft: Draft }>();
const store = useProject();

type Found = Seen<"anchors">;
const found = ref<Found | null>(null);
const fit = ref<Found["fit"] | null>(null);
const busy = ref(false);
const failed = ref("");
type Size = [number, number];
/** Stride by stride. */
const byLevel = computed<Size[][]>(() =>
  props.draft.settings.anchors.length ? (props.draft.settings.anchors as Size[][]) : (found.value?.anchors ?? []),
);
const anchors = computed<Size[]>(() => byLevel.value.flat());
const byHand = computed(() => props.draft.settings.anchors.length > 0);

async function cluster(): Promise<void> {
  if (busy.value) return;
  busy.value = true;
  failed.value = "";
  try {
    found.value = await lookAhead(props.draft, "anchors");
    fit.value = found.value.fit;
    if (byHand.value) await weigh();
  } catch (error) {
    failed.value = wordsOf(error);
  } finally {
    busy.value = false;
  }
}
onMounted(cluster);
watch(() => [props.draft.settings.side, props.draft.snapshotId], cluster);

async function weigh(): Promise<void> {
  try {
    fit.value = await take(
      api.POST("/api/v1/projects/{project_id}/anchors/effect", {
        params: { path: { project_id: store.id } },
        body: { side: props.draft.settings.side!, anchors: byLevel.value, snapshot_id: props.draft.snapshotId },
      }),
    );
  } catch (error) {
    complain(error);
  }
}

async function edit(change: (levels: Size[][]) => void): Promise<void> {
  const next = byLevel.value.map((level) => level.map((each) => [...each] as Size));
  change(next);
  props.draft.settings.anchors = next;
  await weigh();
}
async function resize(level: number, number: number, axis: 0 | 1, value: number | undefined): Promise<void> {
  if (value && value >= 1) await edit((levels) => (levels[level]![number]![axis] = value));
}
/** One more for a stride: as large as the largest there is, or three cells. */
async function add(level: number): Promise<void> {
  const side = 3 * found.value!.strides[level]!;
  await edit((levels) => levels[level]!.push([...(levels[level]!.at(-1) ?? [side, side])] as Size));
}

function setBack(): void {
  props.draft.settings.anchors = [];
  fit.value = found.value?.fit ?? null;
}

const levels = computed(() => {
  let index = 0;
  return (found.value?.strides ?? []).map((stride, level) => ({
    stride,
    anchors: (byLevel.value[level] ?? []).map((size, number) => ({ size, number, index: index++ })),
  }));
});
/** Why a stride is not used. */
function unused(level: number): string {
  const { by_level: sizes, strides } = found.value!;
  const share =
    (100 * sizes[level]!) /
    Math.max(
      1,
      sizes.reduce((a, b) => a + b, 0),
    );
  const large = level === 0 ? "small" : level === strides.length - 1 ? "large" : "of a size";
  return share === 0
    ? `not used, no object is ${large} enough`.replace("of a size enough", "of its size")
    : `not used, only ${share < 1 ? "under 1" : share.toFixed(0)} % of the boxes are ${large} enough`.replace(
        "of a size enough",
        "of its size",
      );
}
const largest = computed(() => Math.max(1, ...anchors.value.flat()));
/** The anchor that a box is most like, by IoU of boxes with one centre. */
function nearest(w: number, h: number): number {
  const ious = anchors.value.map(([aw, ah]) => {
    const shared = Math.min(w, aw) * Math.min(h, ah);
    return shared / (w * h + aw * ah - shared);
  });
  return ious.indexOf(Math.max(...ious));
}
/** Three tints of a hue for each stride, so that neighbouring clusters differ. */
const TINTS = [
  ["#7FA6C4", "#4A7397", "#27445E"],
  ["#E0B45C", "#B98A24", "#7A5A12"],
  ["#D98A74", "#B5492F", "#74291A"],
];
const colouring = ref<"cluster" | "class">("cluster");
const groups = computed(() => {
  const points = found.value?.points ?? [];
  if (colouring.value === "class")
    return (found.value?.class_names ?? []).map((name, number) => ({
      name,
      colour: store.classes.find((each) => each.name === name)?.colour ?? "#A9B8C9",
      data: points.filter((each) => each[2] === number).map(([w, h]) => [w, h]),
    }));
  const held: number[][][] = anchors.value.map(() => []);
  for (const [w, h] of points) held[nearest(w, h)]?.push([w, h]);
  return held.map((data, index) => ({ name: `Anchor ${index + 1}`, colour: tint(index), data }));
});
const tints = computed(() =>
  byLevel.value.flatMap((level, number) => level.map((_, place) => TINTS[number % TINTS.length]![place % 3]!)),
);
const tint = (index: number): string => tints.value[index]!;
/** The power of two below the least, above the greatest of both boxes and anchors. */
function reach(axis: 0 | 1): { min: number; max: number } {
  const values = [...(found.value?.points ?? []), ...anchors.value].map((each) => each[axis]);
  const least = values.reduce((a, b) => Math.min(a, b), Infinity);
  const most = values.reduce((a, b) => Math.max(a, b), 1);
  return { min: 2 ** Math.floor(Math.log2(Math.min(least, most))), max: 2 ** Math.ceil(Math.log2(most)) };
}
const axis = { nameLocation: "middle" as const, nameGap: 22, splitLine: { lineStyle: { color: "#ddd7c9" } } };
const scatter = computed(() => {
  return {
    grid: { left: 44, right: 12, top: 10, bottom: 36 },
    tooltip: {
      formatter: (each: { seriesName: string; value: number[] }) =>
        `${each.seriesName}, ${each.value[0]} × ${each.value[1]} px`,
    },
    xAxis: { type: "log", logBase: 2, name: "Width in input pixels", ...reach(0), ...axis },
    yAxis: { type: "log", logBase: 2, name: "Height", ...reach(1), ...axis, nameGap: 30 },
    series: [
      ...groups.value.map(({ name, colour, data }) => ({
        type: "scatter",
        name,
        symbolSize: 5,
        large: true,
        largeThreshold: 2000,
        itemStyle: { color: colour, opacity: 0.7 },
        data,
      })),
      {
        type: "scatter",
        name: "Anchor",
        symbol: "diamond",
        symbolSize: 13,
        z: 5,
        itemStyle: { color: "#15181b", borderColor: "#fffefa", borderWidth: 1.5 },
        data: anchors.value.map(([w, h]) => [w, h]),
      },
    ],
  };
});
const curve = computed(() => ({
  grid: { left: 44, right: 12, top: 10, bottom: 36 },
  tooltip: {
    formatter: (each: { value: [number, number] }) =>
      `${each.value[0]} anchors: mean best IoU ${each.value[1].toFixed(3)}`,
  },
  xAxis: { type: "value", name: "Number of anchors", min: 0, max: 15, interval: 3, ...axis },
  yAxis: { type: "value", name: "Mean best IoU", min: 0, max: 1, ...axis, nameGap: 30 },
  series: [
    {
      type: "scatter",
      symbolSize: (value: [number, number]) => (value[0] === anchors.value.length ? 13 : 8),
      data: (found.value?.curve ?? []).map((value, index) => ({
        value: [index + 1, value],
        itemStyle: { color: index + 1 === anchors.value.length ? "#15181b" : "#4A7397" },
      })),
    },
  ],
}));
</script>

<template>
  <div class="panel" data-test="anchor-panel">
    <p v-if="failed" class="notice bad">{{ failed }}</p>
    <p v-else-if="!found" class="soft">Clustering the boxes…</p>
    <template v-if="found && fit">
      <p data-test="anchor-fit">
        {{ count(anchors.length, "anchor", "anchors") }}
        {{ byHand ? "set by hand" : `clustered from ${count(found.boxes, "box", "boxes")}, as training scales them,` }}
        {{ anchors.length === 1 ? "fits" : "fit" }} with a mean best IoU of <b>{{ fit.mean_iou.toFixed(3) }}</b>; the
        best anchor of <b>{{ (100 * fit.poor).toFixed(1) }} %</b> of the boxes is under 0.5.
        <el-button v-if="byHand" link type="primary" data-test="anchors-back" @click="setBack"
          >Clustered ones again</el-button
        >
      </p>
      <el-radio-group v-model="colouring" size="small" aria-label="Colours of the boxes" data-test="anchor-colours">
        <el-radio-button value="cluster">Boxes by anchor</el-radio-button
        ><el-radio-button value="class">by class</el-radio-button>
      </el-radio-group>
      <div class="charts">
        <PlainChart :option="scatter" label="Box sizes and anchors in input pixels, log-log" />
        <PlainChart :option="curve" label="Mean best IoU against the number of anchors" />
      </div>
      <div v-for="(level, row) in levels" :key="level.stride" class="level" :data-test="`anchors-${level.stride}`">
        <h3>
          Stride {{ level.stride }}
          <el-button link type="primary" :data-test="`anchor-add-${level.stride}`" @click="add(row)">Add</el-button>
        </h3>
        <p v-if="!level.anchors.length" class="soft none">{{ capital(unused(row)) }}.</p>
        <div
          v-for="each in level.anchors"
          :key="each.index"
          class="anchor"
          :style="{ '--tint': colouring === 'cluster' ? tint(each.index) : 'var(--ink)' }">
          <svg
            :viewBox="`0 0 ${largest} ${largest}`"
            role="img"
            :aria-label="`Anchor of ${each.size[0]} by ${each.size[1]} pixels`">
            <rect
              :x="(largest - each.size[0]) / 2"
              :y="(largest - each.size[1]) / 2"
              :width="each.size[0]"
              :height="each.size[1]" />
          </svg>
          <div>
            <el-input-number
              :model-value="each.size[0]"
              :min="1"
              :max="4096"
              :precision="1"
              :controls="false"
              size="small"
              :aria-label="`Width of anchor ${each.index + 1}`"
              @change="resize(row, each.number, 0, $event)" />
            <el-input-number
              :model-value="each.size[1]"
              :min="1"
              :max="4096"
              :precision="1"
              :controls="false"
              size="small"
              :aria-label="`Height of anchor ${each.index + 1}`"
              @change="resize(row, each.number, 1, $event)" />
            <span class="soft">{{ count(fit.held[row]?.[each.number] ?? 0, "box", "boxes") }}</span>
            <el-button
              v-if="anchors.length > 1"
              link
              :aria-label="`Remove anchor ${each.index + 1}`"
              @click="edit((levels) => levels[row]!.splice(each.number, 1))"
              >Remove</el-button
            >
          </div>
        </div>
      </div>
      <p class="soft small">
        {{ capital(`widths and heights in input pixels at side ${found.side}; drawn to one scale.`) }}
      </p>
    </template>
  </div>
</template>

<style scoped>
.panel {
  display: grid;
  gap: 10px;
}
.charts {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 14px;
  height: 225px;
}
.charts > * {
  min-width: 0;
}
.level {
  display: grid;
  grid-template-columns: 74px repeat(3, minmax(0, 1fr));
  gap: 10px;
  align-items: center;
  border-top: 1px solid var(--rule);
  padding-top: 8px;
}
.level h3 {
  display: grid;
  justify-items: start;
}
.level :deep(.el-button.is-link) {
  font-family: var(--el-font-family);
  font-size: 13px;
  font-weight: 400;
  color: var(--leg-deep);
  justify-content: start;
  padding: 0;
  margin: 0;
}
.none {
  grid-column: 2 / -1;
}
.anchor {
  display: flex;
  gap: 10px;
  align-items: center;
}
.anchor svg {
  width: 66px;
  height: 66px;
  background: var(--paper-deep);
  flex: none;
}
.anchor rect {
  fill: none;
  stroke: var(--tint);
  stroke-width: 2;
  vector-effect: non-scaling-stroke;
}
.anchor div {
  display: grid;
  gap: 3px;
}
.anchor :deep(.el-input-number) {
  width: 74px;
}
.anchor span {
  font-size: 13px;
}
.small {
  font-size: 13px;
}
</style>
