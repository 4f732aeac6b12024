<script setup lang="ts">
/** One picture of a measurement: truth and predictions drawn over it, and what became of each. */
import { computed, onMounted, ref } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Evaluation, type MarkedBox, take, type WallRow } from "@/api/client";
import { count } from "@/parts/format";
import { type Corners, hit, type Point } from "@/stage/geometry";
import type { Shape } from "@/stage/paint";
import PictureStage from "@/stage/PictureStage.vue";
import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";
import MarkKey from "@/views/judge/wall/MarkKey.vue";
import { wallOf } from "@/views/judge/wall/marked";
import { latestOnly, useThresholds } from "@/views/judge/figures/thresholds";
import ThresholdSliders from "@/views/judge/figures/ThresholdSliders.vue";
import { wordsOf } from "@/state/notes";

const route = useRoute();
const router = useRouter();
const store = useProject();
const evaluationId = Number(route.params.evaluation);
const pictureId = Number(route.params.picture);

const wall = ref<WallRow[]>([]);
const evaluation = ref<Evaluation | null>(null);
const names = ref<string[]>([]);
const truths = ref<MarkedBox[]>([]);
const predictions = ref<MarkedBox[]>([]);
const showTruths = ref(true);
const showPredictions = ref(true);
const selected = ref("");
const failed = ref("");

const loadBoxes = latestOnly(async () => {
  try {
    const found = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}/pictures/{picture_id}", {
        params: {
          path: { evaluation_id: evaluationId, picture_id: pictureId },
          query: { minimum_score: minimumScore.value, overlap_limit: overlapLimit.value },
        },
      }),
    );
    truths.value = found.truths;
    predictions.value = found.predictions;
  } catch (error) {
    failed.value = wordsOf(error);
  }
});
const { minimumScore, overlapLimit, query, begin } = useThresholds(loadBoxes);

onMounted(async () => {
  try {
    evaluation.value = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}", { params: { path: { evaluation_id: evaluationId } } }),
    );
    begin(evaluation.value.report?.minimum_score ?? minimumScore.value);
    loadBoxes();
    const found = await wallOf(evaluationId, minimumScore.value, overlapLimit.value);
    wall.value = found.pictures;
    names.value = found.class_names;
  } catch (error) {
    failed.value = wordsOf(error);
  }
});

const anatomyPath = computed(
  () =>
    `/project/${store.id}/judge/anatomy?run=${evaluation.value?.run_id}&picture=${pictureId}&score=${minimumScore.value}&overlap=${overlapLimit.value}`,
);
const place = computed(() => wall.value.findIndex((row) => row.picture_id === pictureId));
const row = computed(() => wall.value[place.value]);
const size = computed(() => ({ width: row.value?.width ?? 1, height: row.value?.height ?? 1 }));
const colours = computed(() => new Map(store.classes.map((each) => [each.name, each])));

interface Entry {
  key: string;
  kind: "truth" | "prediction";
  box: MarkedBox;
}
const entries = computed<Entry[]>(() => {
  const rank = { miss: 0, false_alarm: 1, hit: 2, ignored: 3 };
  const all: Entry[] = [
    ...truths.value
      .filter((box) => box.mark === "miss")
      .map((box): Entry => ({ key: `t${truths.value.indexOf(box)}`, kind: "truth", box })),
    ...predictions.value.map((box, index): Entry => ({ key: `p${index}`, kind: "prediction", box })),
  ];
  return all.sort((a, b) => rank[a.box.mark] - rank[b.box.mark] || (b.box.score ?? 0) - (a.box.score ?? 0));
});

const visible = computed(() => [
  ...(showTruths.value ? truths.value.map((box, index) => ({ key: `t${index}`, box, truth: true })) : []),
  ...(showPredictions.value ? predictions.value.map((box, index) => ({ key: `p${index}`, box, truth: false })) : []),
]);
const shapes = computed<Shape[]>(() =>
  visible.value.map(({ key, box, truth }) => {
    const known = colours.value.get(names.value[box.class_index] ?? "");
    const number = known?.position ?? box.class_index + 1;
    return {
      corners: box.corners as Corners,
      colour: known?.colour ?? "#A9B8C9",
      truth,
      // A truth that was found needs no badge and mark of its own: the prediction carries them.
      badge: truth
        ? box.mark === "hit" && showPredictions.value
          ? undefined
          : String(number)
        : `${number}  ${(box.score ?? 0).toFixed(2)}`,
      mark: truth && box.mark === "hit" && showPredictions.value ? undefined : box.mark,
      faint: selected.value !== "" && selected.value !== key,
    };
  }),
);

function press(point: Point, _event: PointerEvent, reach: number): void {
  const index = hit(
    visible.value.map((each) => each.box.corners as Corners),
    point,
    reach,
  );
  const key = visible.value[index]?.key ?? "";
  selected.value = selected.value === key ? "" : key;
}

async function go(step: number): Promise<void> {
  const next = wall.value[place.value + step];
  if (next)
    await router.push({ path: `/project/${store.id}/judge/${evaluationId}/${next.picture_id}`, query: query() });
}

useKeys([
  { keys: ["."], label: "Next picture", run: () => go(1) },
  { keys: [","], label: "Previous picture", run: () => go(-1) },
  { keys: ["g"], label: "Truth on or off", run: () => (showTruths.value = !showTruths.value) },
  { keys: ["Shift+g"], label: "Predictions on or off", run: () => (showPredictions.value = !showPredictions.value) },
  {
    keys: ["Escape"],
    label: "Back to all pictures",
    run: () => router.push({ path: `/project/${store.id}/judge/${evaluationId}`, query: { ...query(), page: "wall" } }),
  },
  {
    keys: ["y"],
    label: "Take the picture apart",
    run: () => void (evaluation.value?.run_id && evaluation.value.part && router.push(anatomyPath.value)),
  },
]);

const markNames = { hit: "hit", miss: "missed", false_alarm: "false alarm", ignored: "ignored" };
</script>

<template>
  <div class="compare" data-test="compare">
    <header class="bar">
      <router-link :to="{ path: `/project/${store.id}/judge/${evaluationId}`, query: { ...query(), page: 'wall' } }"
        >All pictures</router-link
      >
      <b class="name">{{ row?.name }}</b>
      <span class="spread" />
      <ThresholdSliders v-model:score="minimumScore" v-model:overlap="overlapLimit" />
      <el-button-group>
        <el-button v-hint="'Previous picture'" :disabled="place <= 0" @click="go(-1)">Previous</el-button>
        <el-button v-hint="'Next picture'" :disabled="place < 0 || place >= wall.length - 1" @click="go(1)"
          >Next</el-button
        >
      </el-button-group>
    </header>
    <p v-if="failed" class="notice bad">{{ failed }}</p>
    <PictureStage
      v-if="row"
      :url="`/api/v1/evaluations/${evaluationId}/pictures/${pictureId}/file`"
      :size="size"
      :shapes="shapes"
      :label="`${row.name}: ${count(truths.length, 'truth')}, ${count(predictions.length, 'prediction')}`"
      @press="press" />
    <aside>
      <section>
        <el-checkbox v-model="showTruths"><span class="line-key broken" />Truth ({{ truths.length }})</el-checkbox>
        <el-checkbox v-model="showPredictions"
          ><span class="line-key" />Predictions ({{ predictions.length }})</el-checkbox
        >
      </section>
      <section class="list" data-test="marks">
        <p v-if="!entries.length" class="soft">No objects, none predicted.</p>
        <button
          v-for="entry in entries"
          :key="entry.key"
          class="row"
          :class="{ chosen: selected === entry.key }"
          @click="selected = selected === entry.key ? '' : entry.key">
          <MarkKey v-if="entry.box.mark !== 'ignored'" :mark="entry.box.mark" />
          <span class="what">{{ names[entry.box.class_index] }}</span>
          <span class="soft">{{ markNames[entry.box.mark] }}</span>
          <span class="score">{{ entry.kind === "prediction" ? entry.box.score?.toFixed(2) : "" }}</span>
        </button>
      </section>
      <section>
        <router-link v-if="evaluation?.part" :to="`/project/${store.id}/collect/${pictureId}`"
          >Open to label</router-link
        >
        <router-link v-if="evaluation?.run_id && evaluation.part" :to="anatomyPath" data-test="to-anatomy"
          >Take it apart</router-link
        >
      </section>
    </aside>
  </div>
</template>

<style scoped>
.compare {
  height: 100%;
  display: grid;
  grid-template: auto minmax(0, 1fr) / minmax(0, 1fr) 236px;
}
.bar {
  grid-column: 1 / -1;
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 6px 14px;
  border-bottom: 1px solid var(--rule);
}
.spread {
  flex: 1;
}
aside {
  border-left: 1px solid var(--rule);
  display: flex;
  flex-direction: column;
  min-height: 0;
}
section {
  padding: 10px 12px;
  border-bottom: 1px solid var(--rule);
  display: grid;
}
.list {
  flex: 1;
  min-height: 0;
  overflow: auto;
  align-content: start;
}
.row {
  display: flex;
  align-items: center;
  gap: 7px;
  border: 0;
  background: none;
  padding: 4px 5px;
  text-align: left;
  cursor: pointer;
  color: inherit;
  border-left: 3px solid transparent;
}
.row:hover {
  background: var(--paper-deep);
}
.row.chosen {
  background: var(--leg-pale);
  border-left-color: var(--leg);
}
.what {
  font-weight: 600;
}
.score {
  margin-left: auto;
}
.line-key {
  display: inline-block;
  width: 26px;
  border-top: 2px solid var(--ink);
  margin-right: 7px;
  vertical-align: 3px;
}
.line-key.broken {
  border-top-style: dashed;
}
</style>
