<script setup lang="ts">
/** One measurement: its figures, and a wall of its pictures. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";
import { useRoute } from "vue-router";

import { api, type Evaluation, take, type WallRow } from "@/api/client";
import { count, precision } from "@/parts/format";
import JobState from "@/parts/JobState.vue";
import { useLiveJob } from "@/parts/liveJob";
import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";
import ConfusionMatrix from "@/views/judge/ConfusionMatrix.vue";
import MarkKey from "@/views/judge/MarkKey.vue";
import ScoreChooser from "@/views/judge/ScoreChooser.vue";
import { latestOnly, useThresholds } from "@/views/judge/thresholds";
import ThresholdSliders from "@/views/judge/ThresholdSliders.vue";

const route = useRoute();
const store = useProject();
const live = useLiveJob();
const evaluationId = Number(route.params.evaluation);
const evaluation = ref<Evaluation | null>(null);
const wall = ref<WallRow[]>([]);
const failed = ref("");
const order = ref<"worst" | "name">("worst");
const page = ref<"wall" | "confusion" | "score">("wall");
const job = computed(() => (evaluation.value ? live(evaluation.value.job) : null));

const loadWall = latestOnly(async () => {
  if (job.value?.state !== "done") return;
  try {
    const found = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}/pictures", {
        params: {
          path: { evaluation_id: evaluationId },
          query: { minimum_score: minimumScore.value, overlap_limit: overlapLimit.value },
        },
      }),
    );
    wall.value = found.pictures;
  } catch (error) {
    failed.value = (error as Error).message;
  }
});
const { minimumScore, overlapLimit, query } = useThresholds(loadWall);

const sums = computed(() => ({
  hits: wall.value.reduce((sum, row) => sum + row.hits, 0),
  misses: wall.value.reduce((sum, row) => sum + row.misses, 0),
  falseAlarms: wall.value.reduce((sum, row) => sum + row.false_alarms, 0),
}));
const ordered = computed(() => {
  const faults = (row: WallRow) => row.misses + row.false_alarms;
  const rows = [...wall.value];
  return order.value === "worst"
    ? rows.sort((a, b) => faults(b) - faults(a) || a.name.localeCompare(b.name))
    : rows.sort((a, b) => a.name.localeCompare(b.name));
});
const share = (part: number, whole: number) => (whole ? `${((100 * part) / whole).toFixed(1)} %` : "–");

async function load(): Promise<void> {
  try {
    evaluation.value = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}", { params: { path: { evaluation_id: evaluationId } } }),
    );
    loadWall();
  } catch (error) {
    failed.value = (error as Error).message;
  }
}

const between = (range: readonly number[]): string => `${precision(range[0])} to ${precision(range[1])}`;

useKeys([
  { keys: ["1"], label: "Show the pictures", run: () => (page.value = "wall") },
  { keys: ["2"], label: "Show who is taken for whom", run: () => (page.value = "confusion") },
  { keys: ["3"], label: "Choose a minimum score", run: () => (page.value = "score") },
]);

onMounted(load);
const forget = store.onJob((changed) => {
  if (changed.id === evaluation.value?.job.id && changed.state !== "running") void load();
});
onBeforeUnmount(forget);
</script>

<template>
  <div class="view">
    <header class="view-head">
      <router-link :to="`/project/${store.id}/judge`">Measurements</router-link>
      <h1 v-if="evaluation">{{ evaluation.run_name }} on {{ evaluation.part }}</h1>
      <JobState v-if="job && job.state !== 'done'" :job="job" />
    </header>
    <div class="view-body">
      <p v-if="failed" class="notice bad">{{ failed }}</p>
      <p v-if="job?.state === 'failed'" class="notice bad">{{ job.message }}</p>
      <p v-else-if="evaluation && job?.state !== 'done'" class="soft">{{ job?.message || "Waiting for the worker" }}</p>
      <template v-if="evaluation?.report">
        <div class="top">
          <dl class="facts">
            <div><dt>mAP at 0.5</dt><dd data-test="map50">{{ precision(evaluation.report.map50) }}</dd><dt v-if="evaluation.report.map50_interval" data-test="interval">{{ between(evaluation.report.map50_interval) }}</dt></div>
            <div><dt>mAP at 0.50:0.95</dt><dd data-test="map">{{ precision(evaluation.report.map) }}</dd><dt v-if="evaluation.report.map_interval">{{ between(evaluation.report.map_interval) }}</dt></div>
            <div class="small"><dt>by the COCO rules on {{ count(evaluation.report.pictures, "picture") }}, epoch {{ evaluation.report.epoch }}, overlap limit {{ evaluation.report.overlap_limit }}</dt></div>
            <div v-if="evaluation.report.resamples" class="small">
              <dt>The ranges hold 95 % of {{ evaluation.report.resamples.toLocaleString("en") }} measurements on pictures drawn anew from these.</dt>
            </div>
            <div v-if="evaluation.report.map75 !== undefined" class="small" data-test="more-figures">
              <dt>
                mAP at 0.75 {{ precision(evaluation.report.map75) }}; by size
                <template v-for="(each, size, index) in evaluation.report.sizes" :key="size">{{ index ? ", " : "" }}{{ size }} {{ precision(each.map) }} ({{ each.truths }})</template>;
                average recall <template v-for="(value, limit, index) in evaluation.report.recall" :key="limit">{{ index ? ", " : "" }}{{ precision(value) }} at {{ limit }}</template>.
                <template v-if="evaluation.report.flawless !== null && evaluation.report.flawless !== undefined">In {{ evaluation.report.flawless }} of {{ count(evaluation.report.pictures, "picture") }} everything was found above 0.25, and nothing else.</template>
              </dt>
            </div>
          </dl>
          <table class="figures" data-test="class-figures">
            <thead><tr><th>Class</th><th class="number">AP at 0.5</th><th class="number">95 % range</th><th class="number">at 0.50:0.95</th><th class="number">Truths</th><th class="number">Hits</th><th class="number">Missed</th></tr></thead>
            <tbody>
              <tr v-for="(figures, name) in evaluation.report.classes" :key="name">
                <td>{{ name }}</td>
                <td class="number">{{ precision(figures.ap50) }}</td>
                <td class="number soft">{{ figures.ap50_interval ? between(figures.ap50_interval) : "–" }}</td>
                <td class="number">{{ precision(figures.ap) }}</td>
                <td class="number">{{ figures.truths }}</td>
                <td class="number">{{ figures.hits ?? "–" }}</td>
                <td class="number">{{ figures.misses ?? "–" }}</td>
              </tr>
            </tbody>
          </table>
        </div>
        <div class="controls">
          <ThresholdSliders v-model:score="minimumScore" v-model:overlap="overlapLimit" />
          <p class="sums" data-test="sums">
            <MarkKey mark="hit" /> <b>{{ sums.hits }}</b> hits
            <MarkKey mark="miss" /> <b>{{ sums.misses }}</b> missed
            <MarkKey mark="false_alarm" /> <b>{{ sums.falseAlarms }}</b> false alarms
            <span class="soft">precision {{ share(sums.hits, sums.hits + sums.falseAlarms) }}, recall {{ share(sums.hits, sums.hits + sums.misses) }}</span>
          </p>
          <el-select v-model="order" size="small" aria-label="Order" style="width: 130px">
            <el-option value="worst" label="Worst first" /><el-option value="name" label="By name" />
          </el-select>
        </div>
        <el-radio-group v-model="page" size="small" aria-label="What to look at" class="pages" data-test="judge-pages">
          <el-radio-button value="wall">Pictures</el-radio-button>
          <el-radio-button value="confusion">Confusion</el-radio-button>
          <el-radio-button value="score">Minimum score</el-radio-button>
        </el-radio-group>
        <ConfusionMatrix v-if="page === 'confusion'" :evaluation-id="evaluationId" :minimum-score="minimumScore" :overlap-limit="overlapLimit" :query="query()" />
        <ScoreChooser v-else-if="page === 'score'" :evaluation-id="evaluationId" :overlap-limit="overlapLimit" @use="minimumScore = Math.floor(100 * $event) / 100" />
        <div v-else class="wall">
          <router-link
            v-for="row in ordered"
            :key="row.picture_id"
            :to="{ path: `/project/${store.id}/judge/${evaluationId}/${row.picture_id}`, query: query() }"
            class="tile"
            data-test="wall-tile"
          >
            <img :src="`/api/v1/pictures/${row.picture_id}/thumbnail`" :alt="row.name" loading="lazy" />
            <span class="line">
              <span class="name">{{ row.name }}</span>
              <span v-if="row.misses"><MarkKey mark="miss" />{{ row.misses }}</span>
              <span v-if="row.false_alarms"><MarkKey mark="false_alarm" />{{ row.false_alarms }}</span>
              <span v-if="!row.misses && !row.false_alarms"><MarkKey mark="hit" />all</span>
            </span>
          </router-link>
        </div>
      </template>
    </div>
  </div>
</template>

<style scoped>
.top { display: grid; grid-template-columns: 380px minmax(0, 620px); gap: 30px; align-items: start; }
.facts { display: flex; flex-wrap: wrap; gap: 8px 34px; margin: 0; }
dt { font-size: 14px; color: var(--ink-soft); }
dd { margin: 0; font: 560 32px/1.2 var(--serif); }
.small { width: 100%; }
.controls { display: flex; align-items: center; gap: 30px; padding: 12px 0; margin: 14px 0; border-top: 1px solid var(--rule); border-bottom: 1px solid var(--rule); position: sticky; top: -18px; background: var(--paper); z-index: 2; }
.sums { flex: 1; display: flex; flex-wrap: wrap; gap: 4px 8px; align-items: center; }
.pages { margin-bottom: 12px; }
.wall { display: grid; grid-template-columns: repeat(auto-fill, minmax(190px, 1fr)); gap: 12px; }
.tile { color: inherit; text-decoration: none; font-size: 13px; min-width: 0; }
img { width: 100%; aspect-ratio: 16 / 9; object-fit: contain; background: var(--stage); display: block; }
.line { display: flex; gap: 8px; align-items: center; margin-top: 3px; }
.line > span { display: inline-flex; gap: 3px; align-items: center; }
.name { flex: 1; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
</style>
