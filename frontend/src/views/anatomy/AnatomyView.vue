<script setup lang="ts">
/** One picture, one model: how raw outputs become boxes. */
import { computed, onMounted, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";

import {
  type Anatomy,
  api,
  type Arithmetic,
  type Candidate,
  type Fates,
  type Picture,
  pictureUrl,
  type Run,
  take,
} from "@/api/client";
import { type Corners, hit, type Point } from "@/stage/geometry";
import { type Shape, TRUTH } from "@/stage/paint";
import PictureStage from "@/stage/PictureStage.vue";
import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";
import {
  anatomyLayer,
  anchorCorners,
  builtUp,
  type Cell,
  cellAt,
  cellCorners,
  type Tint,
} from "@/views/anatomy/anatomyLayer";
import CellPanel from "@/views/anatomy/CellPanel.vue";
import FunnelPanel from "@/views/anatomy/FunnelPanel.vue";
import PicturePick from "@/views/anatomy/PicturePick.vue";
import { SUPPRESSIONS, type Suppression } from "@/views/anatomy/suppressions";
import JudgeHead from "@/views/judge/JudgeHead.vue";
import { latestOnly, useThresholds } from "@/views/judge/figures/thresholds";
import ThresholdSliders from "@/views/judge/figures/ThresholdSliders.vue";
import { wordsOf } from "@/state/notes";

const route = useRoute();
const router = useRouter();
const store = useProject();
const runs = ref<Run[]>([]);
const pictures = ref<Picture[]>([]);
const runId = ref<number | undefined>(Number(route.query.run) || undefined);
const pictureId = ref<number | undefined>(Number(route.query.picture) || undefined);
const jobId = ref(0);
const anatomy = ref<Anatomy | null>(null);
const busy = ref(false);
const failed = ref("");
const loaded = ref(false);

const page = ref<"cells" | "boxes">("cells");
const level = ref(0);
const tint = ref<Tint>("objectness");
const grid = ref(true);
const allAnchors = ref(true);
const cell = ref<Cell | null>(null);
const made = ref<Arithmetic | null>(null);
const step = ref(3);

const suppression = ref<Suppression>("by class");
const sigma = ref(0.5);
const most = ref(1000);
const dropped = ref(true);
const fates = ref<Fates | null>(null);
const kept = ref<Partial<Record<Suppression, number[]>>>({});
const selected = ref<Candidate | null>(null);
const truth = ref<number | null>(null);
const near = ref<Candidate[]>([]);

const usable = computed(() => runs.value.filter((run) => run.has_model));
const asked = (way: Suppression) => ({
  minimum_score: minimumScore.value,
  overlap_limit: overlapLimit.value,
  suppression: way,
  sigma: sigma.value,
  most: most.value,
});
const place = computed(() => ({ job_id: jobId.value }));

const loadFates = latestOnly(async () => {
  if (!anatomy.value) return;
  try {
    const found = await Promise.all(
      SUPPRESSIONS.map(({ value }) =>
        take(api.GET("/api/v1/anatomies/{job_id}/fates", { params: { path: place.value, query: asked(value) } })),
      ),
    );
    SUPPRESSIONS.forEach(({ value }, index) => {
      kept.value[value] = found[index]!.candidates.filter((each) => each.fate === "kept").map((each) => each.number);
      if (value === suppression.value) fates.value = found[index]!;
    });
    if (selected.value)
      selected.value = fates.value?.candidates.find((each) => each.number === selected.value?.number) ?? null;
    if (truth.value !== null) await lookNear(truth.value);
  } catch (error) {
    failed.value = wordsOf(error);
  }
});
const { minimumScore, overlapLimit, begin } = useThresholds(loadFates);
watch([suppression, sigma, most], loadFates);

async function takeApart(): Promise<void> {
  if (!runId.value || !pictureId.value || busy.value) return;
  busy.value = true;
  failed.value = "";
  try {
    const started = await take(
      api.POST("/api/v1/runs/{run_id}/anatomies", {
        params: { path: { run_id: runId.value } },
        body: { picture_id: pictureId.value, checkpoint: "best" },
      }),
    );
    const job = await store.ended(started.job.id);
    if (job.state !== "done") throw new Error(job.message);
    jobId.value = job.id;
    anatomy.value = await take(api.GET("/api/v1/anatomies/{job_id}", { params: { path: { job_id: job.id } } }));
    [cell.value, made.value, selected.value, truth.value, near.value] = [null, null, null, null, []];
    level.value = Math.min(level.value, anatomy.value.levels.length - 1);
    begin(anatomy.value.minimum_score);
    loadFates();
    await chooseSurest();
    void router.replace({ query: { ...route.query, run: runId.value, picture: pictureId.value } });
  } catch (error) {
    failed.value = wordsOf(error);
  } finally {
    busy.value = false;
  }
}

/** To begin with, the cell that is most certain of something. */
async function chooseSurest(): Promise<void> {
  const levels = anatomy.value!.levels;
  const tops = levels.map((each) => Math.max(-1, ...each.objectness));
  level.value = tops.indexOf(Math.max(...tops));
  const chosen = levels[level.value]!;
  const index = chosen.objectness.indexOf(tops[level.value]!);
  await chooseCell({
    level: level.value,
    row: Math.floor(index / chosen.columns),
    column: index % chosen.columns,
    anchor: chosen.best_anchor[index]!,
  });
}

async function chooseCell(wanted: Cell): Promise<void> {
  cell.value = wanted;
  level.value = wanted.level;
  try {
    made.value = await take(
      api.GET("/api/v1/anatomies/{job_id}/cell", { params: { path: place.value, query: { ...wanted } } }),
    );
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

/** Another grid shows the same place of the picture. */
watch(level, (wanted) => {
  if (!anatomy.value || !cell.value || cell.value.level === wanted) return;
  const [x1, y1, x2, y2] = cellCorners(anatomy.value, cell.value);
  const found = cellAt(anatomy.value, wanted, (x1 + x2) / 2, (y1 + y2) / 2);
  if (found) void chooseCell(found);
});

async function lookNear(index: number): Promise<void> {
  truth.value = index;
  selected.value = null;
  try {
    const query = { ...asked(suppression.value), truth: index };
    near.value = (
      await take(api.GET("/api/v1/anatomies/{job_id}/near", { params: { path: place.value, query } }))
    ).candidates;
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

function choose(candidate: Candidate): void {
  selected.value = candidate;
  truth.value = null;
  near.value = [];
  void chooseCell({ level: candidate.level, row: candidate.row, column: candidate.column, anchor: candidate.anchor });
}
/** From a cell to its box among the candidates. */
function findBox(number: number): void {
  page.value = "boxes";
  truth.value = null;
  selected.value = fates.value?.candidates.find((each) => each.number === number) ?? null;
}

const shownBoxes = computed(() =>
  (fates.value?.candidates ?? []).filter(
    (each) =>
      each.fate === "kept" ||
      (dropped.value && each.fate === "dropped") ||
      each.number === selected.value?.number ||
      each.number === selected.value?.suppressor,
  ),
);
function press(point: Point, _event: PointerEvent, reach: number): void {
  if (!anatomy.value) return;
  if (page.value === "cells") {
    const found = cellAt(anatomy.value, level.value, point.x, point.y);
    if (found) void chooseCell(found);
    return;
  }
  const boxes = shownBoxes.value.map((each) => each.corners as unknown as Corners);
  const truths = anatomy.value.truths.map((each) => each.corners as unknown as Corners);
  const index = hit([...boxes, ...truths], point, reach);
  if (index < 0) [selected.value, truth.value, near.value] = [null, null, []];
  else if (index < boxes.length) choose(shownBoxes.value[index]!);
  else void lookNear(index - boxes.length);
}

const known = computed(() => new Map(store.classes.map((each) => [each.name, each])));
const colours = computed(() =>
  (anatomy.value?.class_names ?? []).map((name) => known.value.get(name)?.colour ?? "#A9B8C9"),
);
const badge = (index: number): string =>
  String(known.value.get(anatomy.value!.class_names[index]!)?.position ?? index + 1);
const layer = computed(() =>
  anatomy.value
    ? anatomyLayer(anatomy.value, {
        level: level.value,
        tint: page.value === "cells" ? tint.value : "none",
        grid: page.value === "cells" && grid.value,
        cell: page.value === "cells" ? cell.value : null,
        allAnchors: allAnchors.value,
        colours: colours.value,
      })
    : undefined,
);
const shapes = computed<Shape[]>(() => {
  const found = anatomy.value;
  if (!found) return [];
  if (page.value === "cells") {
    if (!cell.value || !made.value) return [];
    const colour = colours.value[made.value.best]!;
    const drawn: Shape[] = [
      {
        corners: builtUp(found, cell.value, made.value, step.value),
        colour,
        badge: step.value === 3 ? `${badge(made.value.best)}  ${made.value.score.toFixed(2)}` : undefined,
      },
    ];
    if (step.value > 0 && !allAnchors.value)
      drawn.unshift({ corners: anchorCorners(found, cell.value), colour: "#C9B79C", ghost: true });
    return drawn;
  }
  const focus = selected.value;
  const related = (each: Candidate): boolean =>
    !focus || each.number === focus.number || each.number === focus.suppressor || each.suppressor === focus.number;
  return [
    ...found.truths.map((each, index): Shape => ({
      corners: each.corners as unknown as Corners,
      colour: TRUTH,
      truth: true,
      selected: truth.value === index,
      faint: focus !== null,
    })),
    ...[...shownBoxes.value].reverse().map((each): Shape => ({
      corners: each.corners as unknown as Corners,
      colour: colours.value[each.class_index]!,
      ghost: each.fate !== "kept",
      badge:
        each.fate === "kept" || each.number === focus?.number
          ? `${badge(each.class_index)}  ${each.left_score.toFixed(2)}`
          : undefined,
      selected: each.number === focus?.number,
      faint: focus ? !related(each) : each.fate !== "kept",
    })),
  ];
});

onMounted(async () => {
  try {
    runs.value = (
      await take(api.GET("/api/v1/projects/{project_id}/runs", { params: { path: { project_id: store.id } } }))
    ).runs;
    runId.value ??= usable.value[0]?.id;
  } catch (error) {
    failed.value = wordsOf(error);
  }
  loaded.value = true;
});
watch([runId, pictureId, loaded], () => {
  if (loaded.value && runId.value && pictureId.value) void takeApart();
});

function move(by: number): void {
  const index = pictures.value.findIndex((each) => each.id === pictureId.value);
  const next = pictures.value[index + by];
  if (next) pictureId.value = next.id;
}
/** Said of a stride without anchors. */
const unused = (index: number): string => {
  const which = index === 0 ? "small" : index === anatomy.value!.levels.length - 1 ? "large" : "of a size";
  return `Stride ${anatomy.value!.levels[index]!.stride}: not used, too few objects are ${which} enough`;
};
function turn(): void {
  const used = (anatomy.value?.levels ?? []).flatMap((each, index) => (each.anchors.length ? [index] : []));
  level.value = used[(used.indexOf(level.value) + 1) % used.length] ?? level.value;
}
function shiftCell(rows: number, columns: number): void {
  const now = cell.value;
  if (!now || !anatomy.value || page.value !== "cells") return;
  const bounds = anatomy.value.levels[now.level]!;
  const row = Math.min(bounds.rows - 1, Math.max(0, now.row + rows));
  const column = Math.min(bounds.columns - 1, Math.max(0, now.column + columns));
  void chooseCell({ ...now, row, column });
}
useKeys([
  { keys: ["1"], label: "Cells and their numbers", run: () => (page.value = "cells") },
  { keys: ["2"], label: "Boxes and what became of them", run: () => (page.value = "boxes") },
  { keys: ["l"], label: "Next stride", run: turn },
  {
    keys: ["v"],
    label: "How the picture is shown: heat, classes or neither",
    run: () => (tint.value = tint.value === "objectness" ? "class" : tint.value === "class" ? "none" : "objectness"),
  },
  { keys: ["Enter"], label: "Next step of the arithmetic", run: () => (step.value = (step.value + 1) % 4) },
  { keys: ["ArrowUp"], label: "Cell above", run: () => shiftCell(-1, 0) },
  { keys: ["ArrowDown"], label: "Cell below", run: () => shiftCell(1, 0) },
  { keys: ["ArrowLeft"], label: "Cell to the left", run: () => shiftCell(0, -1) },
  { keys: ["ArrowRight"], label: "Cell to the right", run: () => shiftCell(0, 1) },
  { keys: ["."], label: "Next picture", run: () => move(1) },
  { keys: [","], label: "Previous picture", run: () => move(-1) },
]);
</script>

<template>
  <div class="view anatomy">
    <JudgeHead />
    <div class="bar">
      <el-select v-model="runId" size="small" aria-label="Model" style="width: 130px" data-test="anatomy-model"
        ><el-option v-for="run in usable" :key="run.id" :value="run.id" :label="run.name"
      /></el-select>
      <PicturePick v-model="pictureId" @found="pictures = $event" />
      <el-radio-group v-model="page" size="small" aria-label="What to look at" data-test="anatomy-pages"
        ><el-radio-button value="cells">Cells</el-radio-button
        ><el-radio-button value="boxes">Boxes</el-radio-button></el-radio-group
      >
      <template v-if="page === 'cells' && anatomy">
        <el-radio-group v-model="level" size="small" aria-label="Stride" data-test="stride"
          ><el-radio-button
            v-for="(each, index) in anatomy.levels"
            :key="each.stride"
            :value="index"
            :disabled="!each.anchors.length"
            :title="each.anchors.length ? `Stride ${each.stride}` : unused(index)"
            >{{
              each.anchors.length ? `${each.columns} × ${each.rows}` : `${each.stride} px: not used`
            }}</el-radio-button
          ></el-radio-group
        >
        <el-select v-model="tint" size="small" aria-label="Layer" style="width: 140px" data-test="tint"
          ><el-option value="objectness" label="Objectness as heat" /><el-option
            value="class"
            label="Likeliest class" /><el-option value="none" label="Only the picture"
        /></el-select>
        <el-checkbox v-model="grid" size="small">Grid</el-checkbox
        ><el-checkbox v-model="allAnchors" size="small">All anchors</el-checkbox>
      </template>
      <ThresholdSliders v-if="page === 'boxes'" v-model:score="minimumScore" v-model:overlap="overlapLimit" />
    </div>
    <p v-if="failed" class="notice bad">
      {{ failed }} <el-button link type="primary" @click="takeApart">Try again</el-button>
    </p>
    <p v-if="loaded && !usable.length" class="soft pad">
      There is no model to take apart yet. <router-link :to="`/project/${store.id}/train`">To Train</router-link>
    </p>
    <p v-else-if="!anatomy" class="soft pad">{{ busy ? "Asking the model…" : "Choose a model and a picture." }}</p>
    <div v-else class="both" :data-ready="!busy" data-test="anatomy">
      <PictureStage
        :url="pictureUrl({ id: anatomy.picture_id! })"
        :size="{ width: anatomy.width, height: anatomy.height }"
        :shapes="shapes"
        :layer="layer"
        :cursor="page === 'cells' ? 'crosshair' : 'pointer'"
        :label="`${anatomy.picture} taken apart`"
        @press="press" />
      <aside>
        <CellPanel
          v-if="page === 'cells'"
          :anatomy="anatomy"
          :cell="cell"
          :made="made"
          :step="step"
          @anchor="cell && chooseCell({ ...cell, anchor: $event })"
          @step="step = $event"
          @find="findBox" />
        <FunnelPanel
          v-else
          v-model:suppression="suppression"
          v-model:sigma="sigma"
          v-model:most="most"
          v-model:dropped="dropped"
          :anatomy="anatomy"
          :fates="fates"
          :kept="kept"
          :selected="selected"
          :truth="truth"
          :near="near"
          :minimum-score="minimumScore"
          :overlap-limit="overlapLimit"
          @choose="choose" />
      </aside>
    </div>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 10px;
  align-items: center;
  padding: 7px 24px;
  border-bottom: 1px solid var(--rule);
  min-height: 56px;
}
.bar label {
  display: flex;
  gap: 7px;
  align-items: center;
}
.bar :deep(.sliders label) {
  display: grid;
  width: 150px;
}
.both {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template: minmax(0, 1fr) / minmax(0, 1fr) 392px;
}
aside {
  border-left: 1px solid var(--rule);
  overflow: auto;
  padding: 12px 14px;
}
.pad {
  padding: 40px 24px;
}
</style>
