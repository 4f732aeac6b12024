<script setup lang="ts">
/** Start a run, and the runs there are. */
import { computed, onBeforeUnmount, onMounted, reactive, ref, watch } from "vue";
import { useRouter } from "vue-router";

import { api, type Plan, type Run, type Snapshot, take } from "@/api/client";
import { capital, count, day, precision } from "@/parts/format";
import JobState from "@/parts/JobState.vue";
import { useLiveJob } from "@/parts/liveJob";
import { useKeys } from "@/state/keys";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import SplitDialog from "@/views/collect/SplitDialog.vue";

const store = useProject();
const router = useRouter();
const live = useLiveJob();

const plan = ref<Plan | null>(null);
const runs = ref<Run[]>([]);
const snapshots = ref<Snapshot[]>([]);
const named = computed(() => snapshots.value.filter((each) => each.name));
const failed = ref("");
const busy = ref(false);
const splitting = ref(false);
const more = ref(false);
const settings = reactive({
  name: "",
  snapshot_id: null as number | null,
  size: "stint" as "stint" | "dunlin" | "curlew",
  side: 416,
  epochs: undefined as number | undefined,
  batch: 8,
  seed: 0,
  learning_rate: 0.003,
  flips: undefined as "none" | "sideways" | "all" | undefined,
});

const speeds: Record<string, string> = { stint: "quickest", dunlin: "about half as fast", curlew: "about a third as fast" };
const sizes = computed(() =>
  Object.entries(plan.value?.parameters ?? {}).map(([value, parameters]) => ({
    value,
    cost: `${(parameters / 1e6).toFixed(1)} million parameters, ${speeds[value] ?? ""}`,
  })),
);
const suggestedFlips = computed(() => (plan.value?.every_direction ? "all" : "sideways"));
const flips = [
  { value: "none", label: "Not at all" },
  { value: "sideways", label: "Left and right" },
  { value: "all", label: "Every way, and turned" },
];
const epochs = computed(() => settings.epochs ?? plan.value?.epochs ?? 0);
const steps = computed(() => epochs.value * Math.ceil((plan.value?.training ?? 0) / settings.batch));

async function load(): Promise<void> {
  try {
    const path = { project_id: store.id };
    const query = { side: settings.side, snapshot_id: settings.snapshot_id ?? undefined };
    const [planned, listed, frozen] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/plan", { params: { path, query } })),
      take(api.GET("/api/v1/projects/{project_id}/runs", { params: { path } })),
      take(api.GET("/api/v1/projects/{project_id}/snapshots", { params: { path } })),
    ]);
    snapshots.value = frozen.snapshots;
    plan.value = planned;
    runs.value = listed.runs;
    failed.value = "";
  } catch (error) {
    failed.value = (error as Error).message;
  }
}

async function start(): Promise<void> {
  if (!plan.value || plan.value.obstacles.length || busy.value) return;
  busy.value = true;
  try {
    const run = await take(
      api.POST("/api/v1/projects/{project_id}/runs", {
        params: { path: { project_id: store.id } },
        body: { ...settings, epochs: settings.epochs ?? null, flips: settings.flips ?? null },
      }),
    );
    await store.refresh();
    await router.push(`/project/${store.id}/train/${run.id}`);
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}

onMounted(load);
watch(() => [settings.side, settings.snapshot_id], load);
const forget = store.onJob((job) => {
  if (job.kind === "train" && job.state !== "running") void load();
});
onBeforeUnmount(forget);
useKeys([{ keys: ["t"], label: "Start the training", run: start }]);
</script>

<template>
  <div class="view">
    <header class="view-head"><h1>Train</h1></header>
    <div class="view-body columns">
      <p v-if="failed" class="notice bad">{{ failed }} <el-button link type="primary" @click="load">Try again</el-button></p>
      <form novalidate v-if="plan" class="plan" data-test="plan" @submit.prevent="start">
        <h2>New run</h2>
        <p>
          Learns from <b>{{ count(plan.training, "picture") }}</b>, watched on <b>{{ plan.validation }}</b>.
          <template v-if="plan.unassigned">
            {{ count(plan.unassigned, "labelled picture is", "labelled pictures are") }} in no part and left out;
            <el-button link type="primary" @click="splitting = true">split the pictures</el-button> to use them.
          </template>
        </p>
        <label v-if="named.length" class="from">
          Labels
          <el-select v-model="settings.snapshot_id" size="small" clearable placeholder="As they are now" :value-on-clear="null" aria-label="Labels to learn from">
            <el-option v-for="each in named" :key="each.id" :value="each.id" :label="`Snapshot ${each.name}`" />
          </el-select>
        </label>
        <div v-if="plan.obstacles.length" class="notice bad" data-test="obstacles">
          <p v-for="each in plan.obstacles" :key="each">{{ each }}</p>
          <el-button v-if="plan.training + plan.validation + plan.unassigned" size="small" @click="splitting = true">Split the pictures</el-button>
        </div>
        <div v-else-if="plan.warnings.length" class="notice">
          <p v-for="each in plan.warnings" :key="each">{{ each }}</p>
        </div>
        <fieldset>
          <legend>Size</legend>
          <el-radio-group v-model="settings.size" class="sizes">
            <el-radio v-for="each in sizes" :key="each.value" :value="each.value">
              {{ capital(each.value) }} <span class="soft">{{ each.cost }}</span>
            </el-radio>
          </el-radio-group>
        </fieldset>
        <div class="fields">
          <label>Input side <el-input-number v-model="settings.side" :min="96" :max="2048" :step="32" step-strictly size="small" aria-label="Input side" /></label>
          <span class="soft">pixels; larger finds smaller objects, slower</span>
          <label>Epochs <el-input-number :model-value="epochs" :min="1" :max="10000" size="small" aria-label="Epochs" @update:model-value="settings.epochs = $event ?? undefined" /></label>
          <span class="soft">{{ steps.toLocaleString("en") }} steps in all</span>
          <label>Batch <el-input-number v-model="settings.batch" :min="1" :max="256" size="small" aria-label="Batch" /></label>
          <span class="soft">pictures in one step</span>
        </div>
        <details :open="more" @toggle="more = ($event.target as HTMLDetailsElement).open">
          <summary>More settings</summary>
          <div class="fields">
            <label>Name <el-input v-model="settings.name" size="small" placeholder="By size and number" aria-label="Run name" /></label>
            <span />
            <label>Mirroring
              <el-select :model-value="settings.flips ?? suggestedFlips" size="small" aria-label="Mirroring" @update:model-value="settings.flips = $event">
                <el-option v-for="each in flips" :key="each.value" :value="each.value" :label="each.label" />
              </el-select>
            </label>
            <span class="soft">{{ plan.every_direction ? "boxes lie in every direction here" : "boxes keep their direction here" }}</span>
            <label>Learning rate <el-input-number v-model="settings.learning_rate" :min="0.0001" :max="0.1" :step="0.001" size="small" aria-label="Learning rate" /></label>
            <span class="soft">lower it if the loss runs away</span>
            <label>Seed <el-input-number v-model="settings.seed" :min="0" :max="4294967295" size="small" aria-label="Seed" /></label>
            <span class="soft">the same seed gives the same weights</span>
          </div>
        </details>
        <el-button type="primary" native-type="submit" size="large" :disabled="plan.obstacles.length > 0 || busy" data-test="start-run">
          Start training
        </el-button>
      </form>
      <section class="runs">
        <h2>Runs</h2>
        <p v-if="!runs.length && plan" class="soft">No run yet. A run freezes the labels as they are and learns from them in the background.</p>
        <table v-if="runs.length" class="figures">
          <thead>
            <tr><th>Name</th><th>State</th><th class="number">mAP 0.5</th><th class="number">0.50:0.95</th><th class="number">Side</th><th class="number">Epochs</th><th>Started</th></tr>
          </thead>
          <tbody>
            <tr v-for="run in runs" :key="run.id" data-test="run-row">
              <td><router-link :to="`/project/${store.id}/train/${run.id}`">{{ run.name }}</router-link></td>
              <td><JobState :job="live(run.job)" /></td>
              <td class="number">{{ precision(run.best_map50) }}</td>
              <td class="number">{{ precision(run.best_map) }}</td>
              <td class="number">{{ run.settings.side }}</td>
              <td class="number">{{ run.settings.epochs }}</td>
              <td class="soft">{{ day(run.created_at) }}</td>
            </tr>
          </tbody>
        </table>
      </section>
    </div>
    <SplitDialog v-model="splitting" @changed="load" />
  </div>
</template>

<style scoped>
.columns { display: grid; grid-template-columns: minmax(360px, 430px) minmax(0, 1fr); gap: 36px; align-items: start; }
.plan { display: grid; gap: 14px; }
fieldset { border: 0; padding: 0; margin: 0; }
.from { display: grid; grid-template-columns: 92px 230px; align-items: center; font-weight: 600; }
legend { font-weight: 600; padding: 0; }
.sizes { display: grid; }
.fields { display: grid; grid-template-columns: auto minmax(0, 1fr); gap: 8px 12px; align-items: center; }
.fields label { display: grid; grid-template-columns: 92px 130px; align-items: center; font-weight: 600; }
.fields .soft { font-size: 13px; }
details .fields { margin-top: 10px; }
summary { cursor: pointer; color: var(--leg-deep); }
.runs { display: grid; gap: 10px; min-width: 0; }
.runs td { white-space: nowrap; }
</style>
