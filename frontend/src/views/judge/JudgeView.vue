<script setup lang="ts">
/** Measure a model on pictures whose truth is known, and the measurements there are. */
import { computed, onBeforeUnmount, onMounted, reactive, ref, watch } from "vue";
import { useRouter } from "vue-router";

import { api, type Ensemble, type Evaluation, type Run, sendForm, type Snapshot, take } from "@/api/client";
import { count } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import WorkOn from "@/views/models/WorkOn.vue";
import JudgeHead from "@/views/judge/JudgeHead.vue";
import MeasurementList from "@/views/judge/MeasurementList.vue";
import { freshOrder, type MeasureOrder } from "@/views/judge/measureOrder";

const store = useProject();
const router = useRouter();
const runs = ref<Run[]>([]);
const ensembles = ref<Ensemble[]>([]);
const snapshots = ref<Snapshot[]>([]);
const evaluations = ref<Evaluation[]>([]);
const looks = ref(0);
const kept = ref<string[]>([]);
const model = ref("");
const truth = ref("own");
const order = reactive(freshOrder());
const files = reactive<{ model: File | null; detections: File | null; truth: File | null }>({
  model: null,
  detections: null,
  truth: null,
});
const sending = ref<number | null>(null);
const failed = ref("");
const refused = ref("");
const loaded = ref(false);
const binned = ref(false);
const usable = computed(() => runs.value.filter((run) => run.has_model));
const fromFile = computed(() => model.value === "bundle" || model.value === "detections");
/** What is still to be chosen, in words; empty when it can begin. */
const missing = computed(() => {
  if (!model.value) return "Choose a model.";
  if (model.value === "bundle" && !files.model) return "Choose the bundle's file.";
  if (model.value === "detections" && !files.detections) return "Choose the file of predictions.";
  return truth.value === "outside" && !files.truth ? "Choose the file with the truth." : "";
});
const ready = computed(() => !missing.value);
// A file was trained on no snapshot that is known here.
watch(fromFile, (outside) => {
  if (outside && truth.value === "own")
    truth.value = snapshots.value[0] ? `snapshot ${snapshots.value[0].id}` : "outside";
  if (!outside && truth.value === "outside") truth.value = "own";
});

async function load(): Promise<void> {
  try {
    const params = { params: { path: { project_id: store.id } } };
    const [listed, combined, frozen, measured] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/runs", params)),
      take(api.GET("/api/v1/projects/{project_id}/ensembles", params)),
      take(api.GET("/api/v1/projects/{project_id}/snapshots", params)),
      take(
        api.GET("/api/v1/projects/{project_id}/evaluations", {
          params: { ...params.params, query: { binned: binned.value } },
        }),
      ),
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
    snapshot_id: truth.value.startsWith("snapshot ")
      ? Number(truth.value.slice(9))
      : kind === "ensemble" && truth.value === "own"
        ? (snapshots.value[0]?.id ?? null)
        : null,
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
      ? await sendForm<Evaluation>(
          `/api/v1/projects/${store.id}/evaluations/upload`,
          form,
          (share) => (sending.value = share),
        )
      : await take(
          api.POST("/api/v1/projects/{project_id}/evaluations", { params: { path: { project_id: store.id } }, body }),
        );
    await router.push(`/project/${store.id}/judge/${made.id}`);
  } catch (error) {
    refused.value = wordsOf(error);
    if (!refused.value) complain(error);
  } finally {
    sending.value = null;
  }
}

onMounted(load);
watch(binned, load);
const forget = store.onJob((job) => {
  if (job.kind === "evaluate" && job.state !== "running") void load();
});
onBeforeUnmount(forget);
useKeys([{ keys: ["m"], label: "Measure the model", run: start }]);
</script>

<template>
  <div class="view">
    <JudgeHead />
    <div class="view-body">
      <p v-if="failed" class="notice bad">
        {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
      </p>
      <template v-else-if="loaded">
        <div v-if="!usable.length" class="empty">
          <h2>No model to judge yet</h2>
          <p class="soft">
            A run can be judged as soon as its first validation is through. A bundle or predictions from elsewhere can
            be measured now.
          </p>
          <router-link :to="`/project/${store.id}/train`"
            ><el-button type="primary" tag="span">To Train</el-button></router-link
          >
        </div>
        <form novalidate class="measure" data-test="measure-form" @submit.prevent="start">
          <label class="field"
            >Measure
            <el-select
              v-model="model"
              aria-label="Model"
              placeholder="a model"
              style="width: 260px"
              data-test="measure-model">
              <el-option-group v-if="usable.length" label="Runs"
                ><el-option v-for="run in usable" :key="run.id" :value="`run ${run.id}`" :label="run.name"
              /></el-option-group>
              <el-option-group v-if="ensembles.length" label="Ensembles"
                ><el-option v-for="each in ensembles" :key="each.id" :value="`ensemble ${each.id}`" :label="each.name"
              /></el-option-group>
              <el-option-group label="From outside">
                <el-option value="bundle" label="A model bundle (zip file)" />
                <el-option value="detections" label="Predictions of another program" />
              </el-option-group>
            </el-select>
          </label>
          <label v-if="model === 'bundle'" class="field"
            >Bundle
            <input
              type="file"
              accept=".zip"
              aria-label="Model bundle"
              data-test="bundle-file"
              @change="pick('model', $event)"
          /></label>
          <label v-if="model === 'detections'" class="field"
            >COCO results JSON
            <input
              type="file"
              accept=".json"
              aria-label="Predictions as COCO results"
              title="COCO results JSON"
              data-test="detections-file"
              @change="pick('detections', $event)"
          /></label>
          <label class="field"
            >on
            <el-select v-model="truth" aria-label="Truth" style="width: 260px" data-test="measure-truth">
              <el-option v-if="!fromFile" value="own" label="The snapshot it was trained on" />
              <el-option
                v-for="each in snapshots"
                :key="each.id"
                :value="`snapshot ${each.id}`"
                :label="`Snapshot ${each.name || each.content_hash.slice(0, 8)}, ${count(each.pictures, 'picture')}`" />
              <el-option value="outside" label="Pictures and COCO JSON (file)" />
            </el-select>
          </label>
          <label v-if="truth === 'outside'" class="field"
            >Archive or JSON
            <input
              type="file"
              accept=".zip,.tar,.tgz,.gz,.json"
              aria-label="Truth"
              data-test="truth-file"
              @change="pick('truth', $event)"
          /></label>
          <label v-else class="field"
            >part
            <el-radio-group
              :model-value="order.part ?? ''"
              aria-label="Part"
              @update:model-value="order.part = $event as MeasureOrder['part']">
              <el-radio-button value="validation">Validation</el-radio-button
              ><el-radio-button value="test">Test</el-radio-button
              ><el-radio-button value="training">Training</el-radio-button>
            </el-radio-group>
          </label>
          <el-button
            v-hint="'Measure the model'"
            type="primary"
            native-type="submit"
            :disabled="!ready || sending !== null"
            data-test="measure"
            >Measure</el-button
          >
          <span v-if="missing" class="soft" data-test="missing">{{ missing }}</span>
          <WorkOn v-model="order.on_cluster" />
          <details class="more">
            <summary>Sizes and rules</summary>
            <div>
              <label class="field"
                >Small up to
                <el-input-number
                  v-model="order.areas[0]"
                  :min="1"
                  :max="order.areas[1] - 1"
                  size="small"
                  aria-label="Small up to" />
                px, medium up to
                <el-input-number
                  v-model="order.areas[1]"
                  :min="order.areas[0] + 1"
                  :max="10000"
                  size="small"
                  aria-label="Medium up to" />
                px: side of a square of the same area</label
              >
              <label class="field"
                >Precision read at
                <el-select v-model="order.interpolation" size="small" aria-label="Interpolation" style="width: 290px">
                  <el-option value="101-point" label="101 recalls, as COCO does, with ranges" /><el-option
                    value="11-point"
                    label="11 recalls, as Pascal VOC did until 2007" /><el-option
                    value="exact-area"
                    label="every recall: the exact area" />
                </el-select>
              </label>
              <label v-if="model.startsWith('run ')" class="field"
                >Checkpoint
                <el-select
                  v-model="order.checkpoint"
                  size="small"
                  aria-label="Checkpoint"
                  style="width: 140px"
                  data-test="measure-checkpoint"
                  ><el-option
                    v-for="each in kept"
                    :key="each"
                    :value="each"
                    :label="each.replace(/^epoch-0*/, 'epoch ')" /></el-select
              ></label>
            </div>
          </details>
        </form>
        <el-progress v-if="sending !== null" :percentage="Math.floor(100 * sending)" aria-label="Sending files" />
        <p v-if="refused" class="notice bad" data-test="refused">{{ refused }}</p>
        <p v-if="model === 'detections' && truth.startsWith('snapshot ')" class="soft hint">
          Ids as in the snapshot's COCO export: pictures and classes are counted from 1.
        </p>
        <p class="soft hint" data-test="looks-at-test">
          The test part is for the last word: choosing settings by it spoils it.
          {{
            looks
              ? `Its figures were opened ${count(looks, "time")} in this project.`
              : "Nobody has looked at its figures yet."
          }}
        </p>
        <MeasurementList
          v-if="evaluations.length || binned || looks"
          v-model:binned="binned"
          :evaluations="evaluations"
          @changed="load" />
      </template>
    </div>
  </div>
</template>

<style scoped>
.measure {
  display: flex;
  flex-wrap: wrap;
  gap: 10px 18px;
  align-items: center;
}
.field {
  display: flex;
  gap: 8px;
  align-items: center;
  font-weight: 600;
  flex-wrap: wrap;
}
.more {
  width: 100%;
}
.more summary {
  cursor: pointer;
  color: var(--leg-deep);
  width: max-content;
}
.more > div {
  display: grid;
  gap: 8px;
  padding: 10px 0 4px 14px;
}
.more .field {
  font-weight: 400;
}
.hint {
  margin: 8px 0 0;
  font-size: 14px;
}
.empty {
  display: grid;
  gap: 12px;
  justify-items: center;
  padding: 40px 0;
  text-align: center;
}
</style>
