<script setup lang="ts">
/** One measurement: its figures, and what lies behind them. */
import { computed, onBeforeUnmount, onMounted, reactive, ref } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type ClassCounts, type Evaluation, type Run, take, type WallRow } from "@/api/client";
import { between, count, noun, precision } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import { useKeys } from "@/state/keys";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import CalibrationChart from "@/views/judge/figures/CalibrationChart.vue";
import ConfusionMatrix from "@/views/judge/figures/ConfusionMatrix.vue";
import FigureTable from "@/views/judge/figures/FigureTable.vue";
import LabelDoubts from "@/views/judge/figures/LabelDoubts.vue";
import MarkKey from "@/views/judge/wall/MarkKey.vue";
import { wallOf } from "@/views/judge/wall/marked";
import MistakeKinds from "@/views/judge/figures/MistakeKinds.vue";
import PictureWall from "@/views/judge/wall/PictureWall.vue";
import PrecisionRecallCurves from "@/views/judge/figures/PrecisionRecallCurves.vue";
import ScoreChooser from "@/views/judge/figures/ScoreChooser.vue";
import { latestOnly, useThresholds } from "@/views/judge/figures/thresholds";
import ThresholdSliders from "@/views/judge/figures/ThresholdSliders.vue";

const PAGES = [
  { value: "figures", label: "Figures" },
  { value: "wall", label: "Pictures" },
  { value: "mistakes", label: "Kinds of error" },
  { value: "confusion", label: "Confusion matrix" },
  { value: "curves", label: "Curves" },
  { value: "score", label: "Minimum score" },
  { value: "calibration", label: "Calibration" },
  { value: "doubts", label: "Doubtful labels" },
] as const;
type Page = (typeof PAGES)[number]["value"];

const route = useRoute();
const router = useRouter();
const store = useProject();
const live = useLiveJob();
const evaluationId = Number(route.params.evaluation);
const evaluation = ref<Evaluation | null>(null);
const run = ref<Run | null>(null);
const wall = ref<WallRow[]>([]);
const byClass = ref<ClassCounts[]>([]);
const summed = ref(false);
const failed = ref("");
const page = ref<Page>(PAGES.find((each) => each.value === route.query.page)?.value ?? "figures");
const chosenClass = ref<string>();
const job = computed(() => (evaluation.value ? live(evaluation.value.job) : null));
const report = computed(() => evaluation.value?.report ?? null);
const sent = computed(() => (evaluation.value?.settings.sent ?? {}) as Record<string, string>);
const where = computed(() => (evaluation.value?.part ? evaluation.value.part : (sent.value.truth ?? "")));

const loadWall = latestOnly(async () => {
  if (job.value?.state !== "done") return;
  try {
    const found = await wallOf(evaluationId, minimumScore.value, overlapLimit.value);
    wall.value = found.pictures;
    byClass.value = found.classes;
    summed.value = true;
  } catch (error) {
    failed.value = wordsOf(error);
  }
});
const { minimumScore, overlapLimit, query, begin } = useThresholds(loadWall);

const sums = computed(() => ({
  hits: wall.value.reduce((sum, row) => sum + row.hits, 0),
  misses: wall.value.reduce((sum, row) => sum + row.misses, 0),
  falseAlarms: wall.value.reduce((sum, row) => sum + row.false_alarms, 0),
  flawless: wall.value.filter((row) => !row.misses && !row.false_alarms).length,
}));
const share = (part: number, whole: number) => (whole ? `${((100 * part) / whole).toFixed(1)} %` : "–");

let counted = false;
async function load(): Promise<void> {
  try {
    evaluation.value = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}", { params: { path: { evaluation_id: evaluationId } } }),
    );
    if (evaluation.value.job.state === "done" && !counted) {
      counted = true;
      evaluation.value = await take(
        api.POST("/api/v1/evaluations/{evaluation_id}/looks", { params: { path: { evaluation_id: evaluationId } } }),
      );
      // Detections of another program were suppressed by it.
      if (!route.query.overlap && report.value) overlapLimit.value = report.value.overlap_limit;
    }
    if (report.value) begin(report.value.minimum_score ?? minimumScore.value);
    loadWall();
    const runId = evaluation.value.run_id;
    if (runId) run.value = (await take(api.GET("/api/v1/runs/{run_id}", { params: { path: { run_id: runId } } }))).run;
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

function turnTo(wanted: Page): void {
  page.value = wanted;
  void router.replace({ query: { ...route.query, page: wanted } });
}
function openClass(name: string): void {
  chosenClass.value = name;
  turnTo("curves");
}

/** Classes that the truth does not have: each is mapped to one that it has, and all is measured again. */
const strange = computed(() => (evaluation.value?.settings.strange ?? []) as string[]);
const truthClasses = computed(() => (evaluation.value?.settings.truth_classes ?? []) as string[]);
const classMap = reactive<Record<string, string>>({});
async function again(): Promise<void> {
  try {
    const known = (evaluation.value?.settings.class_map ?? {}) as Record<string, string>;
    // What is not mapped is left out.
    const chosen = Object.fromEntries(strange.value.map((name) => [name, classMap[name] ?? ""]));
    evaluation.value = await take(
      api.POST("/api/v1/evaluations/{evaluation_id}/again", {
        params: { path: { evaluation_id: evaluationId } },
        body: { class_map: { ...known, ...chosen } },
      }),
    );
  } catch (error) {
    complain(error);
  }
}

useKeys(
  PAGES.map((each, index) => ({
    keys: [String(index + 1)],
    label: `Show: ${each.label}`,
    run: () => turnTo(each.value),
  })),
);

onMounted(load);
const forget = store.onJob((changed) => {
  if (changed.id === evaluation.value?.job.id && changed.state !== "running") void load();
});
onBeforeUnmount(forget);
const file = (name: string): string => `/api/v1/evaluations/${evaluationId}/${name}`;
</script>

<template>
  <div class="view">
    <header class="view-head">
      <router-link :to="`/project/${store.id}/judge`">Measurements</router-link>
      <h1 v-if="evaluation">{{ evaluation.name }} on {{ where }}</h1>
      <JobState v-if="job && job.state !== 'done'" :job="job" />
      <span class="spread" />
      <template v-if="report">
        <router-link v-if="evaluation?.part" :to="`/project/${store.id}/judge/beside?first=${evaluationId}`"
          >Compare</router-link
        >
        <el-dropdown trigger="click">
          <el-button size="small" data-test="download">Download</el-button>
          <template #dropdown>
            <el-dropdown-menu>
              <a
                class="download"
                :href="file(`figures.csv?minimum_score=${minimumScore}&overlap_limit=${overlapLimit}`)"
                download
                >Figures by class, CSV</a
              >
              <a class="download" :href="file('figures.json')" download>All figures and settings, JSON</a>
              <a class="download" :href="file(`detections.json?overlap_limit=${overlapLimit}`)" download
                >Predictions, COCO results JSON</a
              >
            </el-dropdown-menu>
          </template>
        </el-dropdown>
      </template>
    </header>
    <div class="view-body">
      <p v-if="failed" class="notice bad">{{ failed }}</p>
      <p v-if="job?.state === 'failed'" class="notice bad" data-test="measure-failed">{{ job.message }}</p>
      <p v-else-if="evaluation && job?.state !== 'done'" class="soft">{{ job?.message || "Waiting for the worker" }}</p>
      <form
        v-if="job?.state === 'failed' && strange.length"
        novalidate
        class="mapping"
        data-test="class-map"
        @submit.prevent="again">
        <h2>Which class does each mean?</h2>
        <label v-for="name in strange" :key="name"
          >{{ name }} means
          <el-select
            v-model="classMap[name]"
            size="small"
            clearable
            placeholder="none: leave it out"
            :aria-label="`Class that ${name} means`"
            style="width: 190px"
            ><el-option v-for="each in truthClasses" :key="each" :value="each"
          /></el-select>
        </label>
        <el-button type="primary" native-type="submit">Measure again</el-button>
      </form>
      <template v-if="report">
        <p v-if="evaluation?.part === 'test'" class="notice looks" data-test="test-looks">
          These figures of the test part were opened {{ count(evaluation.looks, "time") }}. Settings chosen by them come
          out too well: choose on validation.
        </p>
        <p v-if="evaluation?.part === 'training'" class="notice looks">
          Training pictures: good for finding labelling mistakes, but not for saying how good the model is.
        </p>
        <dl class="facts">
          <div>
            <dt>mAP at 0.5</dt>
            <dd>
              <b data-test="map50">{{ precision(report.map50) }}</b>
              <span data-test="interval">{{ between(report.map50_interval) }}</span>
            </dd>
          </div>
          <div>
            <dt>mAP at 0.50:0.95</dt>
            <dd>
              <b data-test="map">{{ precision(report.map) }}</b> <span>{{ between(report.map_interval) }}</span>
            </dd>
          </div>
          <div>
            <dt>{{ count(report.pictures, "picture") }}</dt>
            <dd data-test="flawless">
              <b>{{ summed ? sums.flawless : "…" }}</b> <span>all found, nothing else</span>
            </dd>
          </div>
          <div class="thresholds"><ThresholdSliders v-model:score="minimumScore" v-model:overlap="overlapLimit" /></div>
          <div v-if="!summed" class="sums soft">Counting hits and errors…</div>
          <div v-else class="sums" data-test="sums">
            <span
              ><MarkKey mark="hit" /> <b>{{ sums.hits }}</b> {{ noun(sums.hits, "hit") }}</span
            ><span
              ><MarkKey mark="miss" /> <b>{{ sums.misses }}</b> missed</span
            ><span
              ><MarkKey mark="false_alarm" /> <b>{{ sums.falseAlarms }}</b>
              {{ noun(sums.falseAlarms, "false alarm") }}</span
            >
            <span class="soft"
              >precision {{ share(sums.hits, sums.hits + sums.falseAlarms) }}, recall
              {{ share(sums.hits, sums.hits + sums.misses) }}</span
            >
          </div>
        </dl>
        <el-radio-group
          :model-value="page"
          size="small"
          aria-label="What to look at"
          class="pages"
          data-test="judge-pages"
          @update:model-value="turnTo($event as Page)">
          <el-radio-button v-for="each in PAGES" :key="each.value" :value="each.value">{{
            each.label
          }}</el-radio-button>
        </el-radio-group>
        <FigureTable v-if="page === 'figures'" :report="report" :counts="byClass" @open="openClass" />
        <PictureWall v-else-if="page === 'wall'" :evaluation-id="evaluationId" :rows="wall" :query="query()" />
        <MistakeKinds
          v-else-if="page === 'mistakes'"
          :evaluation-id="evaluationId"
          :minimum-score="minimumScore"
          :overlap-limit="overlapLimit"
          :query="query()" />
        <ConfusionMatrix
          v-else-if="page === 'confusion'"
          :evaluation-id="evaluationId"
          :minimum-score="minimumScore"
          :overlap-limit="overlapLimit"
          :query="query()" />
        <PrecisionRecallCurves
          v-else-if="page === 'curves'"
          :evaluation-id="evaluationId"
          :minimum-score="minimumScore"
          :overlap-limit="overlapLimit"
          :chosen-class="chosenClass" />
        <ScoreChooser
          v-else-if="page === 'score'"
          :evaluation-id="evaluationId"
          :overlap-limit="overlapLimit"
          :run="run"
          @use="minimumScore = $event"
          @saved="run = $event" />
        <CalibrationChart
          v-else-if="page === 'calibration'"
          :evaluation-id="evaluationId"
          :overlap-limit="overlapLimit"
          :class-names="Object.keys(report.classes)" />
        <LabelDoubts v-else :evaluation-id="evaluationId" :overlap-limit="overlapLimit" />
      </template>
    </div>
  </div>
</template>

<style scoped>
.view-body {
  padding-top: 12px;
}
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 30px;
  align-items: end;
  margin: 0;
  padding-bottom: 10px;
  border-bottom: 1px solid var(--rule);
  position: sticky;
  top: -12px;
  background: var(--paper);
  z-index: 3;
}
dt {
  font-size: 13px;
  color: var(--ink-soft);
}
dd {
  margin: 0;
  font-size: 13px;
  color: var(--ink-soft);
  white-space: nowrap;
}
dd b {
  font: 560 24px/1.15 var(--serif);
  color: var(--ink);
}
.thresholds {
  margin-left: auto;
}
.thresholds :deep(label) {
  width: 150px;
}
.sums {
  width: 100%;
  display: flex;
  flex-wrap: wrap;
  gap: 2px 18px;
  align-items: center;
}
.pages {
  margin: 12px 0;
}
.looks {
  margin-bottom: 10px;
}
.download {
  display: block;
  padding: 6px 16px;
  color: inherit;
  text-decoration: none;
  font-size: 14px;
}
.download:hover {
  background: var(--paper-deep);
}
.mapping {
  display: grid;
  gap: 10px;
  justify-items: start;
  margin-top: 16px;
}
.mapping label {
  display: flex;
  gap: 10px;
  align-items: center;
  font-weight: 600;
}
.facts dd b + span {
  margin-left: 6px;
}
</style>
