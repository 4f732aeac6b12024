<script setup lang="ts">
/** One run: its curves as they come in, time left, figures by class, its model. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Epoch, type Run, take } from "@/api/client";
import { capital, count, duration, precision } from "@/parts/format";
import JobState from "@/parts/JobState.vue";
import LineChart from "@/parts/LineChart.vue";
import { useLiveJob } from "@/parts/liveJob";
import { useKeys } from "@/state/keys";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";

const route = useRoute();
const router = useRouter();
const store = useProject();
const live = useLiveJob();
const runId = Number(route.params.run);

const run = ref<Run | null>(null);
const epochs = ref<Epoch[]>([]);
const failed = ref("");
const modelLink = ref<HTMLAnchorElement>();

const job = computed(() => (run.value ? live(run.value.job) : null));
const active = computed(() => job.value?.state === "running" || job.value?.state === "waiting");
const resumable = computed(() => ["stopped", "failed", "interrupted"].includes(job.value?.state ?? ""));
const validated = computed(() => epochs.value.filter((each) => each.validation));
const last = computed(() => epochs.value.at(-1));
const best = computed(() => epochs.value.find((each) => each.epoch === run.value?.best_epoch)?.validation);
const total = (each: { box: number; objectness: number; classes: number }) => each.box + each.objectness + each.classes;

const lossCurves = computed(() => [
  { name: "Training loss", colour: "#4A7397", points: epochs.value.map((each): [number, number] => [each.epoch, total(each)]) },
  {
    name: "Validation loss",
    colour: "#B5492F",
    dashed: true,
    points: validated.value.map((each): [number, number] => [each.epoch, total(each.validation!)]),
  },
]);
const precisionCurves = computed(() => [
  { name: "mAP at 0.5", colour: "#51623F", points: validated.value.map((each): [number, number] => [each.epoch, each.validation!.map50]) },
  {
    name: "mAP at 0.50:0.95",
    colour: "#8A6A2F",
    dashed: true,
    points: validated.value.map((each): [number, number] => [each.epoch, each.validation!.map]),
  },
]);

async function load(): Promise<void> {
  try {
    const found = await take(api.GET("/api/v1/runs/{run_id}", { params: { path: { run_id: runId } } }));
    run.value = found.run;
    epochs.value = found.epochs;
    failed.value = "";
  } catch (error) {
    failed.value = (error as Error).message;
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

async function judge(): Promise<void> {
  if (!run.value?.has_model) return;
  try {
    const evaluation = await take(api.POST("/api/v1/evaluations", { body: { run_id: runId, part: "validation" } }));
    await router.push(`/project/${store.id}/judge/${evaluation.id}`);
  } catch (error) {
    complain(error);
  }
}

onMounted(load);
const forgetEpoch = store.onEpoch((event) => {
  if (event.run_id === runId) void load();
});
const forgetJob = store.onJob((changed) => {
  if (changed.id === run.value?.job.id && changed.state !== "running") void load();
});
onBeforeUnmount(() => {
  forgetEpoch();
  forgetJob();
});
useKeys([
  { keys: ["j"], label: "Judge this run on the validation part", run: judge },
  { keys: ["s"], label: "Stop", run: stop },
  { keys: ["r"], label: "Resume", run: resume },
  { keys: ["d"], label: "Download the model", run: () => modelLink.value?.click() },
]);
</script>

<template>
  <div class="view">
    <header class="view-head">
      <router-link :to="`/project/${store.id}/train`">Runs</router-link>
      <h1>{{ run?.name }}</h1>
      <JobState v-if="job" :job="job" />
      <span class="spread" />
      <el-button v-if="active" :disabled="job?.stop_requested" data-test="stop-run" @click="stop">Stop</el-button>
      <el-button v-if="resumable" type="primary" data-test="resume-run" @click="resume">Resume</el-button>
      <a v-if="run?.has_model" ref="modelLink" :href="`/api/v1/runs/${runId}/model/best`" data-test="download-model"><el-button tag="span">Download model</el-button></a>
      <el-button v-if="run?.has_model" type="primary" data-test="judge-run" @click="judge">Judge</el-button>
    </header>
    <div class="view-body">
      <p v-if="failed" class="notice bad">{{ failed }} <el-button link type="primary" @click="load">Try again</el-button></p>
      <template v-if="run && job">
        <p v-if="job.state === 'failed' || job.state === 'interrupted'" class="notice bad">{{ job.message }}</p>
        <dl class="facts">
          <div><dt>Time left</dt><dd data-test="time-left">{{ active ? (job.seconds_left === null ? "starting" : duration(job.seconds_left)) : "–" }}</dd></div>
          <div><dt>Epoch</dt><dd data-test="epoch">{{ last?.epoch ?? 0 }} of {{ run.settings.epochs }}</dd></div>
          <div><dt>Step</dt><dd>{{ job.done }} of {{ job.total }}</dd></div>
          <div><dt>Pictures a second</dt><dd>{{ last ? last.pictures_per_second.toFixed(1) : "–" }}</dd></div>
          <div><dt>Best mAP at 0.5</dt><dd data-test="best-map">{{ precision(run.best_map50) }}</dd></div>
          <div><dt>at 0.50:0.95</dt><dd>{{ precision(run.best_map) }}</dd></div>
          <div><dt>Best epoch</dt><dd>{{ run.best_epoch ?? "–" }}</dd></div>
        </dl>
        <div class="charts">
          <LineChart :curves="lossCurves" x-name="Epoch" :x-top="Number(run.settings.epochs)" label="Training and validation loss over epochs" />
          <LineChart :curves="precisionCurves" x-name="Epoch" :x-top="Number(run.settings.epochs)" :top="1" label="Mean average precision over epochs" />
        </div>
        <div class="below">
          <section>
            <h2>Best epoch by class</h2>
            <p v-if="!best" class="soft">The first validation is yet to come.</p>
            <table v-else class="figures">
              <thead><tr><th>Class</th><th class="number">AP at 0.5</th><th class="number">AP at 0.50:0.95</th><th class="number">Truths</th></tr></thead>
              <tbody>
                <tr v-for="(figures, name) in best.by_class" :key="name">
                  <td>{{ name }}</td><td class="number">{{ precision(figures.ap50) }}</td><td class="number">{{ precision(figures.ap) }}</td><td class="number">{{ figures.truths }}</td>
                </tr>
              </tbody>
            </table>
          </section>
          <section>
            <h2>Trained with</h2>
            <table class="figures">
              <tbody>
                <tr><td>Snapshot</td><td><code>{{ run.snapshot_hash.slice(0, 12) }}</code>, {{ count(run.snapshot_pictures, "picture") }}, {{ count(run.snapshot_boxes, "box", "boxes") }}</td></tr>
                <tr><td>Size, side</td><td>{{ capital(String(run.settings.size)) }}, {{ run.settings.side }} px</td></tr>
                <tr><td>Batch, learning rate</td><td>{{ run.settings.batch }}, {{ run.settings.learning_rate }}</td></tr>
                <tr><td>Mirroring, seed</td><td>{{ run.settings.flips }}, {{ run.settings.seed }}</td></tr>
              </tbody>
            </table>
          </section>
        </div>
      </template>
    </div>
  </div>
</template>

<style scoped>
.facts { display: flex; flex-wrap: wrap; gap: 10px 34px; margin: 0 0 14px; }
dt { font-size: 13px; color: var(--ink-soft); }
dd { margin: 0; font: 560 20px/1.3 var(--serif); }
.charts { display: grid; grid-template-columns: 1fr 1fr; gap: 22px; height: 270px; }
.charts > * { min-width: 0; }
.below { display: grid; grid-template-columns: 1fr 1fr; gap: 22px; margin-top: 18px; }
.below h2 { margin-bottom: 6px; }
</style>
