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
const anchors = computed<[number, number][]>(() =>
  props.draft.settings.anchors.length
    ? (props.draft.settings.anchors as [number, number][])
    : (found.value?.anchors ?? []),
);
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
        body: { side: props.draft.settings.side, anchors: anchors.value, snapshot_id: props.draft.snapshotId },
      }),
    );
  } catch (error) {
    complain(error);
  }
}

async function change(index: number, axis: 0 | 1, value: number | undefined): Promise<void> {
  if (!value || value < 1) return;
  const next = anchors.value.map((each) => [...each] as [number, number]);
  next[index]![axis] = value;
  props.draft.settings.anchors = next;
  await weigh();
}

function setBack(): void {
  props.draft.settings.anchors = [];
  fit.value = found.value?.fit ?? null;
}

const levels = computed(() =>
  (found.value?.strides ?? []).map((stride, level) => ({
    stride,
    anchors: anchors.value
      .slice(level * found.value!.per_level, (level + 1) * found.value!.per_level)
      .map((size, number) => ({ size, index: level * found.value!.per_level + number })),
  })),
);
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
const TINTS = ["#7FA6C4", "#4A7397", "#27445E", "#E0B45C", "#B98A24", "#7A5A12", "#D98A74", "#B5492F", "#74291A"];
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
const tint = (index: number): string => TINTS[index % TINTS.length]!;
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
        Nine anchors
        {{ byHand ? "set by hand" : `clustered from ${count(found.boxes, "box", "boxes")}, as training scales them,` }}
        fit with a mean best IoU of <b>{{ fit.mean_iou.toFixed(3) }}</b>; the best anchor of
        <b>{{ (100 * fit.poor).toFixed(1) }} %</b> of the boxes is under 0.5.
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
      <div v-for="level in levels" :key="level.stride" class="level">
        <h3>Stride {{ level.stride }}</h3>
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
              @change="change(each.index, 0, $event)" />
            <el-input-number
              :model-value="each.size[1]"
              :min="1"
              :max="4096"
              :precision="1"
              :controls="false"
              size="small"
              :aria-label="`Height of anchor ${each.index + 1}`"
              @change="change(each.index, 1, $event)" />
            <span class="soft">{{ count(fit.held[each.index] ?? 0, "box", "boxes") }}</span>
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
