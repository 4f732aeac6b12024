<script setup lang="ts">
/** One detection run: its progress while it runs, then what it has found. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";
import { useRoute } from "vue-router";

import { api, type Detection, take } from "@/api/client";
import { whole } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import { useKeys } from "@/state/keys";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import ResultsView, { type RunSummary } from "@/views/use/results/ResultsView.vue";
import RunningView from "@/views/use/results/RunningView.vue";

const route = useRoute();
const store = useProject();
const live = useLiveJob();
const detectionId = Number(route.params.detection);
const detection = ref<Detection | null>(null);
const failed = ref("");

const job = computed(() => (detection.value ? live(detection.value.job) : null));
const summary = computed(() => (detection.value?.summary ?? {}) as RunSummary);
const active = computed(() => job.value?.state === "running" || job.value?.state === "waiting");

function address(name: string): string {
  return `/api/v1/detections/${detectionId}/files/${name.split("/").map(encodeURIComponent).join("/")}`;
}
async function load(): Promise<void> {
  try {
    detection.value = await take(
      api.GET("/api/v1/detections/{detection_id}", { params: { path: { detection_id: detectionId } } }),
    );
  } catch (error) {
    failed.value = wordsOf(error);
  }
}
async function stop(): Promise<void> {
  try {
    if (job.value && active.value) await store.stop(job.value.id);
  } catch (error) {
    complain(error);
  }
}
async function resume(): Promise<void> {
  if (!job.value?.resumable) return;
  try {
    await take(api.POST("/api/v1/jobs/{job_id}/resume", { params: { path: { job_id: job.value.id } } }));
    await load();
  } catch (error) {
    complain(error);
  }
}

onMounted(load);
const forget = store.onJob((changed) => {
  if (changed.id === detection.value?.job.id && changed.state !== "running") void load();
});
onBeforeUnmount(forget);
useKeys([
  { keys: ["Ctrl+."], label: "Stop", run: stop },
  { keys: ["r"], label: "Resume the detection run", run: resume },
]);
</script>

<template>
  <div class="view" data-test="detection">
    <header class="view-head">
      <router-link :to="`/project/${store.id}/use`">Detection runs</router-link>
      <h1>{{ detection?.source }}</h1>
      <JobState v-if="job" :job="job" />
      <span v-if="job?.resumable && job.total" class="soft" data-test="stopped-at"
        >after {{ whole(job.done) }} of {{ whole(job.total) }}</span
      >
      <span class="spread" />
      <el-button v-if="active" v-hint="'Stop'" :disabled="job?.stop_requested" data-test="stop-detection" @click="stop"
        >Stop</el-button
      >
      <el-button
        v-if="job?.resumable"
        v-hint="'Resume the detection run'"
        type="primary"
        data-test="resume-detection"
        @click="resume"
        >Resume</el-button
      >
      <el-dropdown v-if="summary.pictures && !active" trigger="click">
        <el-button data-test="results">Download</el-button>
        <template #dropdown>
          <el-dropdown-menu>
            <a class="way" :href="`${address('detections.json')}?download`" data-test="json">All boxes, JSON</a>
            <a class="way" :href="`${address('detections.csv')}?download`" data-test="csv">All boxes, CSV</a>
            <template v-if="summary.engine !== undefined">
              <a class="way" :href="`${address('detections.jsonl')}?download`">The run's record, JSON Lines</a>
              <a class="way" :href="`${address('detections-coco.zip')}?download`">COCO results</a>
              <a class="way" :href="`${address('detections-centre-text.zip')}?download`">Centre-text</a>
            </template>
            <a v-if="summary.objects" class="way" :href="`${address('objects.csv')}?download`">Objects, CSV</a>
            <a
              v-for="copy in (summary.copies ?? []).filter((each) => each.endsWith('.mp4'))"
              :key="copy"
              class="way"
              :href="`${address(`annotated/${copy}`)}?download`"
              >Annotated {{ copy }}</a
            >
            <a v-if="detection?.order.crops" class="way" :href="`${address('crops.csv')}?download`"
              >List of crops, CSV</a
            >
          </el-dropdown-menu>
        </template>
      </el-dropdown>
    </header>
    <p v-if="failed" class="notice bad">{{ failed }}</p>
    <p v-if="job && (job.state === 'failed' || job.state === 'interrupted')" class="notice bad">{{ job.message }}</p>
    <RunningView v-if="job && active" :detection-id="detectionId" :job="job" />
    <ResultsView
      v-else-if="detection && summary.pictures"
      :key="detection.job.state"
      :detection="detection"
      :summary="summary"
      :address="address" />
    <p v-else-if="job && !active && job.state !== 'failed'" class="view-body soft">Nothing was looked at yet.</p>
  </div>
</template>

<style scoped>
.way {
  display: block;
  padding: 6px 16px;
  color: inherit;
  text-decoration: none;
  font-size: 14px;
}
.way:hover,
.way:focus-visible {
  background: var(--paper-deep);
}
.notice {
  margin: 10px 14px;
}
</style>
