<script setup lang="ts">
/** Measure a model on pictures whose truth is known, and the measurements there are. */
import { computed, onBeforeUnmount, onMounted, reactive, ref, watch } from "vue";
import { useRouter } from "vue-router";

import { api, type Ensemble, type Evaluation, type Run, sendForm, type Snapshot, take } from "@/api/client";
import { count, day, precision } from "@/parts/format";
import JobState from "@/parts/JobState.vue";
import { useLiveJob } from "@/parts/liveJob";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import JudgeHead from "@/views/judge/JudgeHead.vue";
import { freshOrder, type MeasureOrder } from "@/views/judge/measureOrder";

const store = useProject();
const router = useRouter();
const live = useLiveJob();
const runs = ref<Run[]>([]);
const ensembles = ref<Ensemble[]>([]);
const snapshots = ref<Snapshot[]>([]);
const evaluations = ref<Evaluation[]>([]);
const looks = ref(0);
const kept = ref<string[]>([]);
const model = ref("");
const truth = ref("own");
const order = reactive(freshOrder());
const files = reactive<{ model: File | null; detections: File | null; truth: File | null }>({ model: null, detections: null, truth: null });
const sending = ref<number | null>(null);
const failed = ref("");
const refused = ref("");
const loaded = ref(false);
const chosen = ref<number[]>([]);
const usable = computed(() => runs.value.filter((run) => run.has_model));
const fromFile = computed(() => model.value === "bundle" || model.value === "detections");
/** What is still to be chosen, in words; empty when it can begin. */
const missing = computed(() => {
  if (!model.value) return "Choose a model.";
  if (model.value === "bundle" && !files.model) return "Choose the bundle's file.";
  if (model.value === "detections" && !files.detections) return "Choose the file of detections.";
  return truth.value === "outside" && !files.truth ? "Choose the file with the truth." : "";
});
const ready = computed(() => !missing.value);
// A file was trained on no snapshot that is known here.
watch(fromFile, (outside) => {
  if (outside && truth.value === "own") truth.value = snapshots.value[0] ? `snapshot ${snapshots.value[0].id}` : "outside";
  if (!outside && truth.value === "outside") truth.value = "own";
});

async function load(): Promise<void> {
  try {
    const params = { params: { path: { project_id: store.id } } };
    const [listed, combined, frozen, measured] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/runs", params)),
      take(api.GET("/api/v1/projects/{project_id}/ensembles", params)),
      take(api.GET("/api/v1/projects/{project_id}/snapshots", params)),
      take(api.GET("/api/v1/projects/{project_id}/evaluations", params)),
    ]);
    runs.value = listed.runs;
    ensembles.value = combined.ensembles;
    snapshots.value = frozen.snapshots;
    evaluations.value = measured.evaluations;
    looks.value = measured.looks_at_test;
    if (!model.value && usable.value[0]) model.value = `run ${usable.value[0].id}`;
    loaded.value = true;
    failed.value = "";
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

/** The checkpoints that the chosen run kept. */
watch(model, async (value) => {
  order.checkpoint = "best";
  kept.value = ["best"];
  const [kind, id] = value.split(" ");
  if (kind !== "run") return;
  try {
    const { models } = await take(api.GET("/api/v1/runs/{run_id}", { params: { path: { run_id: Number(id) } } }));
    if (model.value === value) kept.value = models;
  } catch (error) {
    complain(error);
  }
});

function pick(kind: keyof typeof files, event: Event): void {
  files[kind] = (event.target as HTMLInputElement).files?.[0] ?? null;
}

async function start(): Promise<void> {
  if (!ready.value || sending.value !== null) return;
  const [kind, id] = model.value.split(" ");
  const body = {
    ...order,
    run_id: kind === "run" ? Number(id) : null,
    ensemble_id: kind === "ensemble" ? Number(id) : null,
    snapshot_id: truth.value.startsWith("snapshot ") ? Number(truth.value.slice(9)) : kind === "ensemble" && truth.value === "own" ? (snapshots.value[0]?.id ?? null) : null,
  };
  refused.value = "";
  try {
    const form = new FormData();
    form.append("order", JSON.stringify(body));
    if (kind === "bundle") form.append("model", files.model!);
    if (kind === "detections") form.append("detections", files.detections!);
    if (truth.value === "outside") form.append("truth", files.truth!);
    const some = fromFile.value || truth.value === "outside";
    if (some) sending.value = 0;
    const made = some
      ? await sendForm<Evaluation>(`/api/v1/projects/${store.id}/evaluations/upload`, form, (share) => (sending.value = share))
      : await take(api.POST("/api/v1/projects/{project_id}/evaluations", { params: { path: { project_id: store.id } }, body }));
    await router.push(`/project/${store.id}/judge/${made.id}`);
  } catch (error) {
    refused.value = wordsOf(error);
    if (!refused.value) complain(error);
  } finally {
    sending.value = null;
  }
}

function toggle(each: Evaluation): void {
  chosen.value = chosen.value.includes(each.id) ? chosen.value.filter((id) => id !== each.id) : [...chosen.value, each.id];
}
/** Into the bin with those ticked, and back. */
async function bin(ids: number[], binned: boolean): Promise<void> {
  if (!ids.length) return;
  try {
    for (const evaluation_id of ids) await take(api.PUT("/api/v1/evaluations/{evaluation_id}/binned", { params: { path: { evaluation_id } }, body: { binned } }));
    chosen.value = [];
    if (binned) sayWithUndo(`${count(ids.length, "measurement")} put away`, () => bin(ids, false));
  } catch (error) {
    complain(error);
  }
  await Promise.all([load(), store.refresh()]);
}
const beside = computed(() => (chosen.value.length === 2 && chosen.value.every((id) => evaluations.value.find((each) => each.id === id)?.report) ? `/project/${store.id}/judge/beside?first=${chosen.value[0]}&second=${chosen.value[1]}` : ""));
const idle = (each: Evaluation): boolean => !["running", "waiting"].includes(live(each.job).state);
const where = (each: Evaluation): string => each.part ?? (each.settings.sent as Record<string, string>).truth ?? "";
const between = (range?: readonly number[] | null): string => (range ? `${precision(range[0])} to ${precision(range[1])}` : "");

onMounted(load);
const forget = store.onJob((job) => {
  if (job.kind === "evaluate" && job.state !== "running") void load();
});
onBeforeUnmount(forget);
useKeys([
  { keys: ["m"], label: "Measure the chosen model", run: start },
  { keys: ["c"], label: "Compare the two chosen measurements", run: () => void (beside.value && router.push(beside.value)) },
  { keys: ["Delete"], label: "Put the chosen measurements away", run: () => bin(chosen.value, true) },
]);
</script>

<template>
  <div class="view">
    <JudgeHead />
    <div class="view-body">
      <p v-if="failed" class="notice bad">{{ failed }} <el-button link type="primary" @click="load">Try again</el-button></p>
      <template v-else-if="loaded">
        <div v-if="!usable.length" class="empty">
          <h2>No model to judge yet</h2>
          <p class="soft">A run can be judged as soon as its first validation is through. A bundle or detections from elsewhere can be measured now.</p>
          <router-link :to="`/project/${store.id}/train`"><el-button type="primary" tag="span">To Train</el-button></router-link>
        </div>
        <form novalidate class="measure" data-test="measure-form" @submit.prevent="start">
          <label class="field">Measure
            <el-select v-model="model" aria-label="Model" placeholder="a model" style="width: 260px" data-test="measure-model">
              <el-option-group v-if="usable.length" label="Runs"><el-option v-for="run in usable" :key="run.id" :value="`run ${run.id}`" :label="run.name" /></el-option-group>
              <el-option-group v-if="ensembles.length" label="Ensembles"><el-option v-for="each in ensembles" :key="each.id" :value="`ensemble ${each.id}`" :label="each.name" /></el-option-group>
              <el-option-group label="From outside">
                <el-option value="bundle" label="A model bundle (zip file)" />
                <el-option value="detections" label="Detections of another program" />
              </el-option-group>
            </el-select>
          </label>
          <label v-if="model === 'bundle'" class="field">Bundle <input type="file" accept=".zip" aria-label="Model bundle" data-test="bundle-file" @change="pick('model', $event)" /></label>
          <label v-if="model === 'detections'" class="field">COCO results JSON <input type="file" accept=".json" aria-label="Detections as COCO results" title="COCO results JSON" data-test="detections-file" @change="pick('detections', $event)" /></label>
          <label class="field">on
            <el-select v-model="truth" aria-label="Truth" style="width: 260px" data-test="measure-truth">
              <el-option v-if="!fromFile" value="own" label="The snapshot it was trained on" />
              <el-option v-for="each in snapshots" :key="each.id" :value="`snapshot ${each.id}`" :label="`Snapshot ${each.name || each.content_hash.slice(0, 8)}, ${count(each.pictures, 'picture')}`" />
              <el-option value="outside" label="Pictures and COCO JSON (file)" />
            </el-select>
          </label>
          <label v-if="truth === 'outside'" class="field">Archive or JSON <input type="file" accept=".zip,.tar,.tgz,.gz,.json" aria-label="Truth" data-test="truth-file" @change="pick('truth', $event)" /></label>
          <label v-else class="field">part
            <el-radio-group :model-value="order.part ?? ''" aria-label="Part" @update:model-value="order.part = $event as MeasureOrder['part']">
              <el-radio-button value="validation">Validation</el-radio-button><el-radio-button value="test">Test</el-radio-button><el-radio-button value="training">Training</el-radio-button>
            </el-radio-group>
          </label>
          <el-button type="primary" native-type="submit" :disabled="!ready || sending !== null" data-test="measure">Measure</el-button>
          <span v-if="missing" class="soft" data-test="missing">{{ missing }}</span>
          <details class="more">
            <summary>Sizes and rules</summary>
            <div>
              <label class="field">Small up to <el-input-number v-model="order.areas[0]" :min="1" :max="order.areas[1] - 1" size="small" aria-label="Small up to" /> px, medium up to <el-input-number v-model="order.areas[1]" :min="order.areas[0] + 1" :max="10000" size="small" aria-label="Medium up to" /> px: side of a square of the same area</label>
              <label class="field">Precision read at
                <el-select v-model="order.interpolation" size="small" aria-label="Interpolation" style="width: 290px">
                  <el-option value="101-point" label="101 recalls, as COCO does, with ranges" /><el-option value="11-point" label="11 recalls, as Pascal VOC did until 2007" /><el-option value="exact-area" label="every recall: the exact area" />
                </el-select>
              </label>
              <label v-if="model.startsWith('run ')" class="field">Checkpoint <el-select v-model="order.checkpoint" size="small" aria-label="Checkpoint" style="width: 140px" data-test="measure-checkpoint"><el-option v-for="each in kept" :key="each" :value="each" :label="each.replace(/^epoch-0*/, 'epoch ')" /></el-select></label>
            </div>
          </details>
        </form>
        <el-progress v-if="sending !== null" :percentage="Math.floor(100 * sending)" aria-label="Sending files" />
        <p v-if="refused" class="notice bad" data-test="refused">{{ refused }}</p>
        <p v-if="model === 'detections' && truth.startsWith('snapshot ')" class="soft hint">Ids as in the snapshot's COCO export: pictures and classes are counted from 1.</p>
        <p class="soft hint" data-test="looks-at-test">
          The test part is for the last word: choosing settings by it spoils it.
          {{ looks ? `Its figures were opened ${count(looks, "time")} in this project.` : "Nobody has looked at its figures yet." }}
        </p>
        <div v-if="evaluations.length" class="list-head">
          <h2>Measurements</h2><span class="soft">Tick two to see them side by side, or some to put away.</span>
          <el-button size="small" :disabled="!beside" data-test="compare-two" @click="router.push(beside)">Compare</el-button>
          <el-button size="small" :disabled="!chosen.length" data-test="bin-measurements" @click="bin(chosen, true)">Put away</el-button>
        </div>
        <table v-if="evaluations.length" class="figures">
          <thead><tr><th /><th>Model</th><th>On</th><th class="number">mAP at 0.5</th><th class="number">95 % range</th><th class="number">at 0.50:0.95</th><th class="number">ms a picture</th><th class="number">Pictures</th><th>Rule</th><th>State</th><th>When</th></tr></thead>
          <tbody>
            <tr v-for="each in evaluations" :key="each.id" data-test="evaluation-row">
              <td><el-checkbox v-if="idle(each)" :model-value="chosen.includes(each.id)" :aria-label="`Choose ${each.name}`" size="small" @change="toggle(each)" /></td>
              <td><router-link :to="`/project/${store.id}/judge/${each.id}`">{{ each.name }}</router-link></td>
              <td>{{ where(each) }} <small v-if="each.snapshot_hash" class="soft">{{ each.snapshot_hash.slice(0, 6) }}</small></td>
              <td class="number"><b>{{ precision(each.report?.map50) }}</b></td>
              <td class="number soft">{{ between(each.report?.map50_interval) }}</td>
              <td class="number">{{ precision(each.report?.map) }}</td>
              <td class="number">{{ each.report?.milliseconds?.toFixed(0) ?? "–" }}</td>
              <td class="number">{{ each.report?.pictures ?? "–" }}</td>
              <td class="soft">{{ each.report?.interpolation ?? "" }}</td>
              <td><JobState :job="live(each.job)" /></td>
              <td class="soft">{{ day(each.created_at) }}</td>
            </tr>
          </tbody>
        </table>
      </template>
    </div>
  </div>
</template>

<style scoped>
.measure { display: flex; flex-wrap: wrap; gap: 10px 18px; align-items: center; }
.field { display: flex; gap: 8px; align-items: center; font-weight: 600; flex-wrap: wrap; }
.more { width: 100%; }
.more summary { cursor: pointer; color: var(--leg-deep); width: max-content; }
.more > div { display: grid; gap: 8px; padding: 10px 0 4px 14px; }
.more .field { font-weight: 400; }
.hint { margin: 8px 0 0; font-size: 14px; }
.list-head { display: flex; gap: 16px; align-items: center; margin: 20px 0 4px; }
td:first-child { width: 30px; }
.empty { display: grid; gap: 12px; justify-items: center; padding: 40px 0; text-align: center; }
</style>
