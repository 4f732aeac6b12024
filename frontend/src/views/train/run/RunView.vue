<script setup lang="ts">
/** One run: curves as they come in, watch pictures, a try, its log, and what it was trained with. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Epoch, type Hint, type Run, take } from "@/api/client";
import { count, duration, precision } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import { useKeys } from "@/state/keys";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import { measure } from "@/views/judge/measureOrder";
import { copySettings, useDraft } from "@/views/train/ahead/runSettings";
import ModelDownload from "@/views/train/run/ModelDownload.vue";
import RunCurves from "@/views/train/run/RunCurves.vue";
import RunFacts from "@/views/train/run/RunFacts.vue";
import RunLog from "@/views/train/run/RunLog.vue";
import TryPanel from "@/views/train/run/TryPanel.vue";
import WatchPanel from "@/views/train/run/WatchPanel.vue";

const route = useRoute();
const router = useRouter();
const store = useProject();
const live = useLiveJob();
const draft = useDraft();
const runId = Number(route.params.run);

const run = ref<Run | null>(null);
const epochs = ref<Epoch[]>([]);
const hints = ref<Hint[]>([]);
const models = ref<string[]>([]);
const failed = ref("");
const page = ref("curves");
const pages = ["curves", "watch", "try", "log", "facts"] as const;
const extending = ref(false);
const more = ref(10);

const job = computed(() => (run.value ? live(run.value.job) : null));
const active = computed(() => job.value?.state === "running" || job.value?.state === "waiting");
const resumable = computed(() => ["stopped", "failed", "interrupted"].includes(job.value?.state ?? ""));
const last = computed(() => epochs.value.at(-1));
const allEpochs = computed(() => Number(run.value?.settings.epochs ?? 0) + Number(run.value?.settings.extended ?? 0));

async function load(): Promise<void> {
  try {
    const found = await take(api.GET("/api/v1/runs/{run_id}", { params: { path: { run_id: runId } } }));
    run.value = found.run;
    epochs.value = found.epochs;
    hints.value = found.hints;
    models.value = found.models;
    failed.value = "";
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

/** The loss step by step, in epochs: there from the first steps on. */
const steps = ref<[number, number][]>([]);
let stepsAt = 0;
async function loadSteps(): Promise<void> {
  if (Date.now() - stepsAt < 1500) return;
  stepsAt = Date.now();
  try {
    const found = await take(api.GET("/api/v1/runs/{run_id}/steps", { params: { path: { run_id: runId } } }));
    steps.value = found.points.map(([step, loss]) => [step / found.steps_per_epoch, loss]);
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

async function stop(): Promise<void> {
  if (!active.value || !job.value) return;
  try {
    await store.stop(job.value.id);
  } catch (error) {
    complain(error);
  }
}

async function resume(): Promise<void> {
  if (!resumable.value) return;
  try {
    run.value = await take(api.POST("/api/v1/runs/{run_id}/resume", { params: { path: { run_id: runId } } }));
  } catch (error) {
    complain(error);
  }
}

async function extend(): Promise<void> {
  try {
    run.value = await take(
      api.POST("/api/v1/runs/{run_id}/extend", { params: { path: { run_id: runId } }, body: { epochs: more.value } }),
    );
    extending.value = false;
  } catch (error) {
    complain(error);
  }
}

async function judge(): Promise<void> {
  if (!run.value?.has_model) return;
  try {
    const evaluation = await measure(store.id, { run_id: runId });
    await router.push(`/project/${store.id}/judge/${evaluation.id}`);
  } catch (error) {
    complain(error);
  }
}

/** A new run with these settings, from these weights. */
async function goOn(): Promise<void> {
  if (!run.value) return;
  copySettings(draft, run.value.settings);
  if (run.value.has_model) draft.start = runId;
  await router.push(`/project/${store.id}/train`);
}

onMounted(load);
onMounted(loadSteps);
const forgetEpoch = store.onEpoch((event) => {
  if (event.run_id === runId) void load();
});
const forgetJob = store.onJob((changed) => {
  if (changed.id !== run.value?.job.id) return;
  if (changed.state !== "running") void load();
  void loadSteps();
});
onBeforeUnmount(() => {
  forgetEpoch();
  forgetJob();
});
useKeys([
  ...pages.map((name, index) => ({ keys: [String(index + 1)], label: `Show ${name}`, run: () => (page.value = name) })),
  { keys: ["m"], label: "Measure this run on the validation part", run: judge },
  { keys: ["Ctrl+."], label: "Stop", run: stop },
  { keys: ["r"], label: "Resume", run: resume },
  {
    keys: ["Shift+r"],
    label: "Extend by more epochs",
    run: () => job.value?.state === "done" && (extending.value = true),
  },
]);
</script>

<template>
  <div class="view">
    <header class="view-head">
      <router-link :to="`/project/${store.id}/train/runs`">Runs</router-link>
      <h1>{{ run?.name }}</h1>
      <JobState v-if="job" :job="job" />
      <span class="spread" />
      <el-button v-if="active" v-hint="'Stop'" :disabled="job?.stop_requested" data-test="stop-run" @click="stop"
        >Stop</el-button
      >
      <el-button v-if="resumable" v-hint="'Resume'" type="primary" data-test="resume-run" @click="resume"
        >Resume</el-button
      >
      <el-popover v-if="job?.state === 'done'" v-model:visible="extending" trigger="click" :width="250">
        <template #reference
          ><el-button v-hint="'Extend by more epochs'" data-test="extend-run">Extend</el-button></template
        >
        <form class="extend" @submit.prevent="extend">
          <label
            >More epochs <el-input-number v-model="more" :min="1" :max="10000" size="small" aria-label="More epochs"
          /></label>
          <p class="soft small">It goes on from the latest weights, at up to 0.3 times the learning rate.</p>
          <el-button type="primary" size="small" native-type="submit" data-test="extend-now">Extend</el-button>
        </form>
      </el-popover>
      <el-button v-if="run && !active" data-test="copy-run" @click="goOn">New run from this</el-button>
      <ModelDownload v-if="run?.has_model" :run-id="runId" />
      <el-button
        v-if="run?.has_model"
        v-hint="'Measure this run on the validation part'"
        type="primary"
        data-test="judge-run"
        @click="judge"
        >Measure</el-button
      >
    </header>
    <div class="run-body">
      <p v-if="failed" class="notice bad">
        {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
      </p>
      <template v-if="run && job">
        <p v-if="job.state === 'failed' || job.state === 'interrupted'" class="notice bad" data-test="run-message">
          {{ job.message }}
        </p>
        <p v-for="hint in hints" :key="hint.kind + hint.text" class="notice" data-test="hint">{{ hint.text }}</p>
        <dl class="facts">
          <div>
            <dt>Time left</dt>
            <dd data-test="time-left">
              {{ active ? (job.seconds_left === null ? "starting" : duration(job.seconds_left)) : "–" }}
            </dd>
          </div>
          <div>
            <dt>Epoch</dt>
            <dd data-test="epoch">{{ last?.epoch ?? 0 }} of {{ allEpochs }}</dd>
          </div>
          <div>
            <dt>Step</dt>
            <dd>{{ job.done }} of {{ job.total }}</dd>
          </div>
          <div>
            <dt>Pictures a second</dt>
            <dd>{{ last ? last.pictures_per_second.toFixed(1) : "–" }}</dd>
          </div>
          <div>
            <dt>Learning rate</dt>
            <dd>{{ last ? last.learning_rate.toPrecision(2) : "–" }}</dd>
          </div>
          <div>
            <dt>Best mAP at 0.5</dt>
            <dd data-test="best-map">{{ precision(run.best_map50) }}</dd>
          </div>
          <div>
            <dt>at 0.50:0.95</dt>
            <dd>{{ precision(run.best_map) }}</dd>
          </div>
          <div>
            <dt>Best epoch</dt>
            <dd>{{ run.best_epoch ?? "–" }}</dd>
          </div>
        </dl>
        <p v-if="run.facts.transfer" class="soft small" data-test="transfer">
          Started from {{ run.facts.start === "shipped" ? "the shipped weights" : run.facts.start }}.
          {{ run.facts.transfer }}
        </p>
        <el-tabs v-model="page" class="pages" data-test="run-pages">
          <el-tab-pane label="Curves" name="curves"
            ><RunCurves v-if="page === 'curves'" :run="run" :epochs="epochs" :steps="steps" :x-top="allEpochs"
          /></el-tab-pane>
          <el-tab-pane label="Watch pictures" name="watch"
            ><WatchPanel v-if="page === 'watch'" :run="run" :latest="last?.epoch ?? 0"
          /></el-tab-pane>
          <el-tab-pane label="Try" name="try"
            ><TryPanel v-if="page === 'try'" :run="run" :latest="last?.epoch ?? 0"
          /></el-tab-pane>
          <el-tab-pane label="Log" name="log"
            ><RunLog v-if="page === 'log'" :run-id="runId" :latest="last?.epoch ?? 0" :state="job.state"
          /></el-tab-pane>
          <el-tab-pane label="Trained with" name="facts"
            ><RunFacts v-if="page === 'facts'" :run="run" :models="models" @changed="load"
          /></el-tab-pane>
        </el-tabs>
        <p v-if="!epochs.length && active" class="soft">The first of {{ count(allEpochs, "epoch") }} is at work.</p>
      </template>
    </div>
  </div>
</template>

<style scoped>
.run-body {
  flex: 1;
  min-height: 0;
  display: flex;
  flex-direction: column;
  gap: 8px;
  padding: 14px 24px 12px;
  overflow: auto;
}
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 30px;
  margin: 0;
}
dt {
  font-size: 13px;
  color: var(--ink-soft);
}
dd {
  margin: 0;
  font: 560 19px/1.3 var(--serif);
}
.pages {
  flex: 1;
  min-height: 420px;
  display: flex;
  flex-direction: column;
}
.pages :deep(.el-tabs__header) {
  order: 0;
  margin-bottom: 10px;
}
.pages :deep(.el-tabs__content) {
  order: 1;
  flex: 1;
  min-height: 0;
  overflow: auto;
}
.pages :deep(.el-tab-pane) {
  height: 100%;
}
.extend {
  display: grid;
  gap: 8px;
  justify-items: start;
}
.small {
  font-size: 13px;
}
</style>
