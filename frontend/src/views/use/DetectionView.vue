<script setup lang="ts">
/** One detection: progress while it runs, then its summary and the annotated copies. */
import { computed, nextTick, onBeforeUnmount, onMounted, ref } from "vue";
import { useRoute } from "vue-router";

import { api, type Detection, take } from "@/api/client";
import { count, duration, threshold } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import { useKeys } from "@/state/keys";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import ObjectList, { type ClipObject } from "@/views/use/ObjectList.vue";

interface Summary {
  pictures?: number;
  detections?: number;
  by_class?: Record<string, number>;
  objects?: Record<string, number> | null;
  seconds?: number;
  frames_per_second?: number | null;
  problems?: string[];
  copies?: string[];
}

const route = useRoute();
const store = useProject();
const live = useLiveJob();
const detectionId = Number(route.params.detection);
const detection = ref<Detection | null>(null);
const failed = ref("");
const shown = ref(0);
const video = ref<HTMLVideoElement>();

const job = computed(() => (detection.value ? live(detection.value.job) : null));
const summary = computed(() => (detection.value?.summary ?? {}) as Summary);
const copies = computed(() => summary.value.copies ?? []);
const copy = computed(() => copies.value[shown.value]);
const isClip = computed(() => copy.value?.toLowerCase().endsWith(".mp4") ?? false);
const most = computed(() => Math.max(1, ...Object.values(summary.value.by_class ?? {})));
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

function go(step: number): void {
  shown.value = Math.min(Math.max(shown.value + step, 0), Math.max(0, copies.value.length - 1));
}

const stem = (name: string): string => name.replace(/\.[^./]*$/, "");
/** Show a clip at the moment when an object comes into sight. */
async function goTo(found: ClipObject): Promise<void> {
  const place = copies.value.findIndex((each) => stem(each) === stem(found.clip));
  if (place >= 0 && place !== shown.value) {
    shown.value = place;
    await nextTick();
  }
  const target = video.value;
  if (!target) return;
  target.pause();
  // Just into the frame: at its very beginning some browsers still show the one before.
  target.currentTime = found.first_seconds + 0.01;
}

function play(): void {
  const target = video.value;
  if (!target) return;
  if (target.paused) void target.play();
  else target.pause();
}

onMounted(load);
const forget = store.onJob((changed) => {
  if (changed.id === detection.value?.job.id && changed.state !== "running") void load();
});
onBeforeUnmount(forget);
useKeys([
  { keys: ["."], label: "Next copy", run: () => go(1) },
  { keys: [","], label: "Previous copy", run: () => go(-1) },
  { keys: [" "], label: "Play or pause the clip", run: play },
  { keys: ["Ctrl+."], label: "Stop", run: stop },
]);
</script>

<template>
  <div class="view" data-test="detection">
    <header class="view-head">
      <router-link :to="`/project/${store.id}/use`">Detection runs</router-link>
      <h1>{{ detection?.source }}</h1>
      <JobState v-if="job" :job="job" />
      <span class="spread" />
      <el-button v-if="active" v-hint="'Stop'" :disabled="job?.stop_requested" @click="stop">Stop</el-button>
      <template v-if="summary.pictures">
        <a :href="`${address('detections.json')}?download`" data-test="json"><el-button tag="span">JSON</el-button></a>
        <a :href="`${address('detections.csv')}?download`" data-test="csv"><el-button tag="span">CSV</el-button></a>
        <a v-if="copy" :href="`${address(`annotated/${copy}`)}?download`"
          ><el-button tag="span">{{ isClip ? "Annotated clip" : "This copy" }}</el-button></a
        >
      </template>
    </header>
    <p v-if="failed" class="notice bad">{{ failed }}</p>
    <p v-if="job && (job.state === 'failed' || job.state === 'interrupted')" class="notice bad">{{ job.message }}</p>
    <p v-if="active" class="view-body soft" data-test="running">{{ job?.message || "Waiting for the worker" }}</p>
    <div v-if="summary.pictures" class="result">
      <div class="stage">
        <video
          v-if="isClip && copy"
          ref="video"
          :key="copy"
          controls
          loop
          muted
          autoplay
          :src="address(`annotated/${copy}`)"
          data-test="clip" />
        <img v-else-if="copy" :src="address(`annotated/${copy}`)" :alt="`${copy} with its boxes`" />
      </div>
      <aside>
        <section>
          <p class="big" data-test="box-count">{{ count(summary.detections ?? 0, "box", "boxes") }}</p>
          <p class="soft">
            in {{ count(summary.pictures ?? 0, isClip ? "frame" : "picture") }}, {{ duration(summary.seconds ?? 0) }},
            <b data-test="speed">{{ summary.frames_per_second }}</b> frames a second
          </p>
          <p class="soft">
            {{ detection?.run_name }}, minimum score {{ threshold(detection?.minimum_score ?? 0) }}, overlap limit
            {{ detection?.overlap_limit }}
          </p>
        </section>
        <section data-test="by-class">
          <div v-for="(number, name) in summary.by_class" :key="name" class="class-line">
            <span>{{ name }}</span>
            <i
              :style="{
                width: `${(100 * number) / most}%`,
                background: store.classes.find((each) => each.name === name)?.colour ?? 'var(--sand)',
              }" />
            <b>{{ number }}</b>
          </div>
        </section>
        <ObjectList
          v-if="summary.objects"
          :key="detectionId"
          :address="address('objects.json')"
          :download="`${address('objects.csv')}?download`"
          @go="goTo" />
        <section v-if="summary.problems?.length" class="notice bad">
          <p v-for="each in summary.problems" :key="each">{{ each }}</p>
        </section>
        <section v-if="copies.length > 1" class="copies">
          <p>
            <el-button-group>
              <el-button size="small" :disabled="shown === 0" @click="go(-1)">Previous</el-button>
              <el-button size="small" :disabled="shown >= copies.length - 1" @click="go(1)">Next</el-button>
            </el-button-group>
            <span class="soft"> {{ shown + 1 }} of {{ copies.length }}</span>
          </p>
          <button
            v-for="(name, index) in copies"
            :key="name"
            :class="{ chosen: index === shown }"
            @click="shown = index">
            {{ name }}
          </button>
        </section>
      </aside>
    </div>
  </div>
</template>

<style scoped>
.result {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: minmax(0, 1fr) 250px;
}
.stage {
  background: var(--stage);
  display: grid;
  place-items: center;
  min-width: 0;
  min-height: 0;
  overflow: hidden;
}
video,
img {
  width: 100%;
  height: 100%;
  object-fit: contain;
  min-height: 0;
}
aside {
  border-left: 1px solid var(--rule);
  overflow: auto;
}
section {
  padding: 12px 14px;
  border-bottom: 1px solid var(--rule);
}
.big {
  font: 560 24px/1.2 var(--serif);
}
.class-line {
  display: grid;
  grid-template-columns: 80px minmax(0, 1fr) 46px;
  gap: 8px;
  align-items: center;
  padding: 2px 0;
}
.class-line i {
  height: 9px;
  min-width: 1px;
}
.class-line b {
  text-align: right;
}
.copies {
  display: grid;
  gap: 2px;
}
.copies > button {
  border: 0;
  background: none;
  text-align: left;
  padding: 3px 6px;
  cursor: pointer;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  border-left: 3px solid transparent;
  color: inherit;
}
.copies > button.chosen {
  border-left-color: var(--leg);
  background: var(--leg-pale);
}
.notice {
  margin: 10px 14px;
}
</style>
