<script setup lang="ts">
/** Figures of the labels: how many, of what, how large, where; and which boxes are too small to be learnt. */
import { computed, onMounted, ref, watch } from "vue";
import { useRouter } from "vue-router";

import { api, type Figures, type Part, take } from "@/api/client";
import ClassBadge from "@/parts/classes/ClassBadge.vue";
import { capital, count } from "@/parts/format";
import PlainChart from "@/parts/charts/PlainChart.vue";
import { useProject } from "@/state/project";
import { inputSide, LEARNABLE } from "@/state/remembered";
import CollectHead from "@/views/pictures/CollectHead.vue";
import { wordsOf } from "@/state/notes";

const store = useProject();
const router = useRouter();
const part = ref<Part | "">("");
const figures = ref<Figures | null>(null);
const failed = ref("");
const parts = ["training", "validation", "test"] as const;

async function load(): Promise<void> {
  try {
    const query = { side: inputSide.value, part: part.value || undefined };
    figures.value = await take(
      api.GET("/api/v1/projects/{project_id}/figures", { params: { path: { project_id: store.id }, query } }),
    );
    failed.value = "";
  } catch (error) {
    failed.value = wordsOf(error);
  }
}
onMounted(load);
watch([part, inputSide], load);

const rows = computed(() => {
  const held = figures.value?.parts;
  if (!held) return [];
  const all = [...parts.map((name) => [capital(name), held[name]] as const), ["Unassigned", held[""]] as const];
  const shown = all.flatMap(([name, each]) =>
    each && (each.pictures || name !== "Unassigned") ? [{ name, ...each }] : [],
  );
  const sum = (key: "pictures" | "labelled" | "empty" | "boxes"): number =>
    shown.reduce((total, each) => total + each[key], 0);
  return [
    ...shown,
    {
      name: "All",
      pictures: sum("pictures"),
      labelled: sum("labelled"),
      empty: sum("empty"),
      boxes: sum("boxes"),
      by_class: {},
    },
  ];
});
const boxesOf = (classId: number, name: string): number => figures.value?.parts[name]?.by_class[classId] ?? 0;
const most = computed(() => Math.max(1, ...store.allClasses.map((each) => each.boxes)));

const axis = { nameLocation: "middle" as const, nameGap: 24, splitLine: { lineStyle: { color: "#ddd7c9" } } };
const sizes = computed(() => {
  const groups = new Map<number, [number, number, number][]>();
  for (const [classId, width, height, pictureId] of figures.value?.points ?? []) {
    if (!groups.has(classId)) groups.set(classId, []);
    groups.get(classId)!.push([width, height, pictureId]);
  }
  return {
    grid: { left: 44, right: 12, top: 10, bottom: 40 },
    tooltip: {
      formatter: (each: { seriesName: string; value: [number, number] }) =>
        `${each.seriesName}, ${each.value[0]} × ${each.value[1]} px`,
    },
    xAxis: { type: "log", name: "Width in pixels", min: "dataMin", max: "dataMax", ...axis },
    yAxis: { type: "log", name: "Height in pixels", min: "dataMin", max: "dataMax", ...axis, nameGap: 32 },
    series: [...groups].map(([classId, data]) => ({
      type: "scatter",
      name: store.classById.get(classId)?.name ?? "",
      data,
      symbolSize: 6,
      itemStyle: {
        color: store.classById.get(classId)?.colour,
        opacity: 0.75,
        borderColor: "#15181b",
        borderWidth: 0.4,
      },
    })),
  };
});

function histogram(values: [string, number][], name: string) {
  return {
    grid: { left: 44, right: 12, top: 10, bottom: 40 },
    tooltip: { trigger: "axis" },
    xAxis: { type: "category", data: values.map(([label]) => label), name, nameLocation: "middle", nameGap: 24 },
    yAxis: { type: "value", minInterval: 1, splitLine: { lineStyle: { color: "#ddd7c9" } } },
    series: [{ type: "bar", data: values.map(([, value]) => value), color: "#4a7397", barCategoryGap: "12%" }],
  };
}
const perPicture = computed(() => {
  const counts = Object.entries(figures.value?.boxes_a_picture ?? {}).map(
    ([n, pictures]) => [Number(n), pictures] as const,
  );
  const top = Math.max(0, ...counts.map(([n]) => n));
  const wide = Math.max(1, Math.ceil((top + 1) / 24));
  const bins: [string, number][] = [];
  for (let first = 0; first <= top; first += wide) {
    const inBin = counts.filter(([n]) => n >= first && n < first + wide);
    bins.push([
      wide === 1 ? String(first) : `${first}–${first + wide - 1}`,
      inBin.reduce((sum, [, pictures]) => sum + pictures, 0),
    ]);
  }
  return histogram(bins, "Boxes in a picture");
});
const aspects = computed(() => {
  const edges = [0.125, 0.177, 0.25, 0.354, 0.5, 0.707, 1, 1.414, 2, 2.828, 4, 5.66, 8];
  const bins: [string, number][] = edges.slice(0, -1).map((edge) => [edge.toFixed(2), 0]);
  for (const [, width, height] of figures.value?.points ?? []) {
    const place = edges.findIndex((edge) => width / height < edge) - 1;
    const bin = bins[place === -2 ? bins.length - 1 : Math.max(0, place)];
    if (bin) bin[1] += 1;
  }
  return histogram(bins, "Width : height, from");
});
const hottest = computed(() => Math.max(1, ...(figures.value?.places.flat() ?? [])));

const advice = computed(() => {
  const now = figures.value?.small_at ?? 0;
  if (!now) return `At side ${inputSide.value} no box is under ${LEARNABLE} pixels.`;
  const better = Object.entries(figures.value?.small ?? {}).find(
    ([side, share]) => Number(side) > inputSide.value && share < now / 2,
  );
  const way = better
    ? ` Side ${better[0]} would leave ${percent(better[1])}; it costs ${((Number(better[0]) / inputSide.value) ** 2).toFixed(1)} times the time.`
    : "";
  return `At side ${inputSide.value}, ${percent(now)} of the boxes, on ${count(figures.value?.small_pictures ?? 0, "picture")}, are under ${LEARNABLE} pixels and will hardly be learnt.${way} Or mark them 'ignore', so that they do not count against the detector.`;
});

function percent(share: number): string {
  return `${(100 * share).toFixed(share < 0.1 ? 1 : 0)} %`;
}

async function openPicture(value: unknown): Promise<void> {
  const id = Array.isArray(value) ? Number(value[2]) : 0;
  if (id)
    await router.push({
      path: `/project/${store.id}/collect/${id}`,
      query: { from: `/project/${store.id}/collect/figures` },
    });
}
</script>

<template>
  <div class="view">
    <CollectHead>
      <el-select v-model="part" size="small" placeholder="All parts" clearable aria-label="Part" style="width: 130px">
        <el-option v-for="each in parts" :key="each" :value="each" :label="capital(each)" />
      </el-select>
    </CollectHead>
    <div class="view-body">
      <p v-if="failed" class="notice bad">
        {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
      </p>
      <p v-else-if="!figures" class="soft">Counting</p>
      <div v-else class="sheet" data-test="figures">
        <section class="wide two">
          <table class="figures">
            <thead>
              <tr>
                <th>Part</th>
                <th class="number">Pictures</th>
                <th class="number">Left to label</th>
                <th class="number">No objects</th>
                <th class="number">Boxes</th>
                <th class="number">Boxes a picture</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="row in rows" :key="row.name">
                <td>{{ row.name }}</td>
                <td class="number">{{ row.pictures }}</td>
                <td class="number">{{ row.pictures - row.labelled }}</td>
                <td class="number">{{ row.empty }}</td>
                <td class="number">{{ row.boxes }}</td>
                <td class="number">{{ row.labelled ? (row.boxes / row.labelled).toFixed(1) : "–" }}</td>
              </tr>
            </tbody>
          </table>
          <div class="by-class">
            <table class="figures">
              <thead>
                <tr>
                  <th>Class</th>
                  <th class="number">Training</th>
                  <th class="number">Validation</th>
                  <th class="number">Test</th>
                  <th class="bar-head">All</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="each in store.allClasses" :key="each.id">
                  <td>
                    <router-link :to="{ path: `/project/${store.id}/collect/audit`, query: { class: each.id } }"
                      ><ClassBadge :number="each.position" :colour="each.colour" :name="each.name"
                    /></router-link>
                  </td>
                  <td v-for="name in parts" :key="name" class="number">{{ boxesOf(each.id, name) }}</td>
                  <td>
                    <span class="bar" :style="{ width: `${(90 * each.boxes) / most}px`, background: each.colour }" />
                    {{ each.boxes }}
                  </td>
                </tr>
              </tbody>
            </table>
          </div>
        </section>
        <section>
          <h3>Size of the boxes</h3>
          <div class="plot">
            <PlainChart :option="sizes" label="Width and height of all boxes" @pressed="openPicture" />
          </div>
        </section>
        <section>
          <h3>Shape of the boxes</h3>
          <div class="plot"><PlainChart :option="aspects" label="Width divided by height" /></div>
        </section>
        <section>
          <h3>Boxes in a picture</h3>
          <div class="plot"><PlainChart :option="perPicture" label="Pictures by their number of boxes" /></div>
        </section>
        <section>
          <h3>Where they lie in the frame</h3>
          <svg class="places" viewBox="0 0 32 18" role="img" aria-label="Where the boxes' centres lie">
            <template v-for="(row, y) in figures.places" :key="y">
              <rect v-for="(n, x) in row" :key="x" :x="x" :y="y" width="1" height="1" :fill-opacity="n / hottest">
                <title>{{ count(n, "box", "boxes") }}</title>
              </rect>
            </template>
          </svg>
        </section>
        <section class="wide">
          <h3>Small boxes</h3>
          <p class="line">
            <label
              >Input side
              <el-input-number
                v-model="inputSide"
                :min="64"
                :max="4096"
                :step="32"
                size="small"
                aria-label="Input side"
            /></label>
            <span
              v-for="(share, side) in figures.small"
              :key="side"
              class="side"
              :class="{ here: Number(side) === inputSide }"
              >{{ side }}: <b>{{ percent(share) }}</b></span
            >
          </p>
          <p data-test="advice">{{ advice }}</p>
        </section>
      </div>
    </div>
  </div>
</template>

<style scoped>
.sheet {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 18px 32px;
}
.wide {
  grid-column: 1 / -1;
}
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 32px;
}
.by-class {
  max-height: 236px;
  overflow: auto;
}
td {
  padding-top: 4px;
  padding-bottom: 4px;
}
.plot {
  height: 250px;
}
.bar {
  display: inline-block;
  height: 10px;
  border-radius: 1px;
}
.bar-head {
  width: 150px;
}
.places {
  width: 100%;
  max-height: 250px;
  background: var(--paper-deep);
  border: 1px solid var(--rule);
}
.places rect {
  fill: var(--leg-deep);
}
.line {
  display: flex;
  gap: 16px;
  align-items: center;
  margin: 6px 0;
}
.side.here {
  border-bottom: 2px solid var(--leg);
}
</style>
