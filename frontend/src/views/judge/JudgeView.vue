<script setup lang="ts">
/** Measure a run on held-out pictures, and the measurements there are. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";
import { useRouter } from "vue-router";

import { api, type Evaluation, type Run, take } from "@/api/client";
import { day, precision } from "@/parts/format";
import JobState from "@/parts/JobState.vue";
import { useLiveJob } from "@/parts/liveJob";
import { useKeys } from "@/state/keys";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";

const store = useProject();
const router = useRouter();
const live = useLiveJob();
const runs = ref<Run[]>([]);
const evaluations = ref<Evaluation[]>([]);
const runId = ref<number>();
const part = ref<"validation" | "test">("validation");
const failed = ref("");
const loaded = ref(false);
const usable = computed(() => runs.value.filter((run) => run.has_model));

async function load(): Promise<void> {
  try {
    const path = { project_id: store.id };
    const [listed, measured] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/runs", { params: { path } })),
      take(api.GET("/api/v1/projects/{project_id}/evaluations", { params: { path } })),
    ]);
    runs.value = listed.runs;
    evaluations.value = measured.evaluations;
    runId.value ??= usable.value[0]?.id;
    loaded.value = true;
    failed.value = "";
  } catch (error) {
    failed.value = (error as Error).message;
  }
}

async function measure(): Promise<void> {
  if (!runId.value) return;
  try {
    const made = await take(api.POST("/api/v1/evaluations", { body: { run_id: runId.value, part: part.value } }));
    await router.push(`/project/${store.id}/judge/${made.id}`);
  } catch (error) {
    complain(error);
  }
}

onMounted(load);
const forget = store.onJob((job) => {
  if (job.kind === "evaluate" && job.state !== "running") void load();
});
onBeforeUnmount(forget);
useKeys([{ keys: ["m"], label: "Measure the chosen run", run: measure }]);
</script>

<template>
  <div class="view">
    <header class="view-head"><h1>Judge</h1></header>
    <div class="view-body">
      <p v-if="failed" class="notice bad">{{ failed }} <el-button link type="primary" @click="load">Try again</el-button></p>
      <div v-else-if="loaded && !usable.length" class="empty">
        <h2>No model to judge yet</h2>
        <p class="soft">A run can be judged as soon as its first validation is through.</p>
        <router-link :to="`/project/${store.id}/train`"><el-button type="primary" tag="span">To Train</el-button></router-link>
      </div>
      <template v-else-if="loaded">
        <form novalidate class="measure" @submit.prevent="measure">
          <label>Run
            <el-select v-model="runId" aria-label="Run" style="width: 220px">
              <el-option v-for="run in usable" :key="run.id" :value="run.id" :label="run.name" />
            </el-select>
          </label>
          <label>On
            <el-radio-group v-model="part">
              <el-radio-button value="validation">Validation</el-radio-button>
              <el-radio-button value="test">Test</el-radio-button>
            </el-radio-group>
          </label>
          <el-button type="primary" native-type="submit" data-test="measure">Measure</el-button>
        </form>
        <p class="soft hint">The test part is for the last word: choosing settings by it spoils it.</p>
        <table v-if="evaluations.length" class="figures">
          <thead><tr><th>Run</th><th>Part</th><th class="number">mAP at 0.5</th><th class="number">at 0.50:0.95</th><th class="number">Pictures</th><th>State</th><th>When</th></tr></thead>
          <tbody>
            <tr v-for="each in evaluations" :key="each.id" data-test="evaluation-row">
              <td><router-link :to="`/project/${store.id}/judge/${each.id}`">{{ each.run_name }}</router-link></td>
              <td>{{ each.part }}</td>
              <td class="number">{{ precision(each.report?.map50) }}</td>
              <td class="number">{{ precision(each.report?.map) }}</td>
              <td class="number">{{ each.report?.pictures ?? "–" }}</td>
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
.measure { display: flex; gap: 22px; align-items: center; }
.measure label { display: flex; gap: 8px; align-items: center; font-weight: 600; }
.hint { margin: 8px 0 22px; font-size: 14px; }
.empty { display: grid; gap: 12px; justify-items: center; padding: 90px 0; text-align: center; }
</style>
