<script setup lang="ts">
/** Run a model over a clip or pictures, and what was run before. */
import { computed, onBeforeUnmount, onMounted, ref, watch } from "vue";
import { useRouter } from "vue-router";

import { api, type Clip, type Detection, type Ensemble, type Run, sendFiles, take } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import { count, day, precision } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import { useKeys } from "@/state/keys";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import ThresholdSliders from "@/views/judge/figures/ThresholdSliders.vue";

const store = useProject();
const router = useRouter();
const live = useLiveJob();

const runs = ref<Run[]>([]);
const clips = ref<Clip[]>([]);
const detections = ref<Detection[]>([]);
const ensembles = ref<Ensemble[]>([]);
const model = ref("");
const byClass = ref(true);
const source = ref<string>("");
const files = ref<File[]>([]);
const minimumScore = ref(CONSTANTS.minimum_score);
const overlapLimit = ref(CONSTANTS.overlap_limit);
const failed = ref("");
const loaded = ref(false);
const sent = ref<number | null>(null);
const fileInput = ref<HTMLInputElement>();
const folderInput = ref<HTMLInputElement>();

const usable = computed(() => runs.value.filter((run) => run.has_model));
const unlabelled = computed(() => {
  const figures = store.project?.stages;
  return figures ? figures.pictures - figures.labelled : 0;
});
const run = computed(() => usable.value.find((each) => `run ${each.id}` === model.value));
const saved = computed(() => Object.entries(run.value?.minimum_scores ?? {}));
/** Each model begins with the minimum score that its own validation found best. */
watch(run, (chosen) => (minimumScore.value = chosen?.minimum_score ?? CONSTANTS.minimum_score));
const ready = computed(() => Boolean(model.value && source.value && (source.value !== "files" || files.value.length)));

async function load(): Promise<void> {
  try {
    const params = { params: { path: { project_id: store.id } } };
    const [listed, found, used, combined] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/runs", params)),
      take(api.GET("/api/v1/projects/{project_id}/clips", params)),
      take(api.GET("/api/v1/projects/{project_id}/detections", params)),
      take(api.GET("/api/v1/projects/{project_id}/ensembles", params)),
    ]);
    ensembles.value = combined.ensembles;
    runs.value = listed.runs;
    clips.value = found.clips;
    detections.value = used.detections;
    if (!model.value && usable.value[0]) model.value = `run ${usable.value[0].id}`;
    source.value ||= clips.value[0] ? `clip ${clips.value[0].id}` : unlabelled.value ? "unlabelled" : "";
    loaded.value = true;
    failed.value = "";
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

function takeFiles(event: Event): void {
  const input = event.target as HTMLInputElement;
  const known = /\.(jpe?g|png|webp|bmp|tiff?|mp4|mov|avi|mkv|webm)$/i;
  files.value = [...(input.files ?? [])].filter((file) => known.test(file.name));
  if (input.files?.length && !files.value.length) complain(new Error("None of these files is a picture or a clip"));
  input.value = "";
  if (files.value.length) source.value = "files";
}

async function start(): Promise<void> {
  if (!ready.value || sent.value !== null) return;
  const [kind, id] = model.value.split(" ");
  const which = kind === "run" ? { run_id: Number(id), ensemble_id: null } : { run_id: null, ensemble_id: Number(id) };
  const common = {
    ...which,
    chosen_scores: byClass.value && saved.value.length > 0,
    minimum_score: minimumScore.value,
    overlap_limit: overlapLimit.value,
  };
  try {
    let made: Detection;
    if (source.value === "files") {
      sent.value = 0;
      const fields = Object.fromEntries(
        Object.entries(common)
          .filter(([, value]) => value !== null)
          .map(([name, value]) => [name, String(value)]),
      );
      made = await sendFiles<Detection>(
        "/api/v1/detections/upload",
        files.value,
        fields,
        (share) => (sent.value = share),
      );
    } else {
      const body = source.value.startsWith("clip ")
        ? { ...common, clip_id: Number(source.value.slice(5)), pictures: false, state: null }
        : {
            ...common,
            clip_id: null,
            pictures: true,
            state: source.value === "unlabelled" ? ("unlabelled" as const) : null,
          };
      made = await take(api.POST("/api/v1/detections", { body }));
    }
    await router.push(`/project/${store.id}/use/${made.id}`);
  } catch (error) {
    complain(error);
  } finally {
    sent.value = null;
  }
}

onMounted(load);
const forget = store.onJob((job) => {
  if (job.kind === "detect" && job.state !== "running") void load();
});
onBeforeUnmount(forget);
useKeys([
  { keys: ["Ctrl+Enter"], label: "Start detection run", run: start },
  { keys: ["Shift+a"], label: "Add a folder", run: () => folderInput.value?.click() },
  { keys: ["a"], label: "Add pictures or clips", run: () => fileInput.value?.click() },
]);
</script>

<template>
  <div class="view">
    <header class="view-head"><h1>Use</h1></header>
    <div class="view-body">
      <p v-if="failed" class="notice bad">
        {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
      </p>
      <div v-else-if="loaded && !usable.length" class="empty">
        <h2>No model to use yet</h2>
        <p class="soft">A run can be used as soon as its first validation is through.</p>
        <router-link :to="`/project/${store.id}/train`"
          ><el-button type="primary" tag="span">To Train</el-button></router-link
        >
      </div>
      <div v-else-if="loaded" class="columns">
        <form novalidate data-test="use-form" @submit.prevent="start">
          <h2>New detection run</h2>
          <label class="field"
            >Model
            <el-select v-model="model" aria-label="Model">
              <el-option
                v-for="each in usable"
                :key="each.id"
                :value="`run ${each.id}`"
                :label="`${each.name}, mAP ${precision(each.best_map50)} at 0.5`" />
              <el-option
                v-for="each in ensembles"
                :key="`e${each.id}`"
                :value="`ensemble ${each.id}`"
                :label="`${each.name}, ${each.members.length} models combined`" />
            </el-select>
          </label>
          <fieldset>
            <legend>Run it over</legend>
            <el-radio-group v-model="source" class="sources">
              <el-radio v-for="clip in clips" :key="clip.id" :value="`clip ${clip.id}`">
                {{ clip.name }}
                <span class="soft"
                  >{{ clip.seconds.toFixed(1) }} s, {{ Math.round(clip.rate * clip.seconds) }} frames</span
                >
              </el-radio>
              <el-radio v-if="unlabelled" value="unlabelled"
                >{{ count(unlabelled, "unlabelled picture") }} of this project</el-radio
              >
              <el-radio v-if="store.project?.stages.pictures" value="all"
                >All {{ count(store.project.stages.pictures, "picture") }} of this project</el-radio
              >
              <el-radio value="files" :disabled="!files.length">
                {{ files.length ? count(files.length, "file") + " from this computer" : "Files from this computer" }}
              </el-radio>
            </el-radio-group>
            <p class="pick">
              <el-button v-hint="'Add a folder'" size="small" @click="folderInput?.click()">Add a folder</el-button>
              <el-button v-hint="'Add pictures or clips'" size="small" @click="fileInput?.click()"
                >Add pictures or clips</el-button
              >
            </p>
            <input ref="folderInput" type="file" webkitdirectory hidden aria-label="Folder" @change="takeFiles" />
            <input
              ref="fileInput"
              type="file"
              multiple
              hidden
              aria-label="Pictures or clips"
              data-test="use-files"
              @change="takeFiles" />
          </fieldset>
          <el-checkbox v-if="saved.length" v-model="byClass" data-test="chosen-scores"
            >Minimum score of each class as chosen in Judge:
            {{ saved.map(([name, score]) => `${name} ${score.toFixed(2)}`).join(", ") }}</el-checkbox
          >
          <ThresholdSliders v-model:score="minimumScore" v-model:overlap="overlapLimit" />
          <el-progress v-if="sent !== null" :percentage="Math.floor(100 * sent)" aria-label="Sending files" />
          <el-button
            v-hint="'Start detection run'"
            type="primary"
            native-type="submit"
            size="large"
            :disabled="!ready || sent !== null"
            data-test="start-detection"
            >Start detection run</el-button
          >
        </form>
        <section>
          <h2>Detection runs</h2>
          <p v-if="!detections.length" class="soft">
            None yet. Results are annotated copies, and all boxes as JSON and CSV.
          </p>
          <table v-else class="figures">
            <thead>
              <tr>
                <th>On</th>
                <th>Model</th>
                <th>State</th>
                <th class="number">Boxes</th>
                <th class="number">Frames a second</th>
                <th>When</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="each in detections" :key="each.id" data-test="detection-row">
                <td>
                  <router-link :to="`/project/${store.id}/use/${each.id}`">{{ each.source }}</router-link>
                </td>
                <td>{{ each.run_name }}</td>
                <td><JobState :job="live(each.job)" /></td>
                <td class="number">{{ each.summary.detections ?? "–" }}</td>
                <td class="number">{{ each.summary.frames_per_second ?? "–" }}</td>
                <td class="soft">{{ day(each.created_at) }}</td>
              </tr>
            </tbody>
          </table>
        </section>
      </div>
    </div>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: 420px minmax(0, 1fr);
  gap: 36px;
  align-items: start;
}
form {
  display: grid;
  gap: 16px;
  justify-items: stretch;
}
.field {
  display: grid;
  gap: 4px;
  font-weight: 600;
}
fieldset {
  border: 0;
  padding: 0;
  margin: 0;
}
legend {
  font-weight: 600;
  padding: 0;
}
.sources {
  display: grid;
  max-height: 240px;
  overflow: auto;
}
.pick {
  margin: 6px 0 0 22px;
}
.empty {
  display: grid;
  gap: 12px;
  justify-items: center;
  padding: 90px 0;
  text-align: center;
}
</style>
