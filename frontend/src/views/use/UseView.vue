<script setup lang="ts">
/** Run a model over a clip or pictures, and what was run before. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";

import { type Address, api, type Clip, type Detection, type Ensemble, type Run, take } from "@/api/client";
import { day, whole } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import { wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import UseHead from "@/views/use/UseHead.vue";
import RunForm from "@/views/use/form/RunForm.vue";

const store = useProject();
const live = useLiveJob();

const runs = ref<Run[]>([]);
const clips = ref<Clip[]>([]);
const detections = ref<Detection[]>([]);
const ensembles = ref<Ensemble[]>([]);
const addresses = ref<Address[]>([]);
const failed = ref("");
const loaded = ref(false);
const usable = computed(() => runs.value.filter((run) => run.has_model));

async function load(): Promise<void> {
  try {
    const params = { params: { path: { project_id: store.id } } };
    const [listed, found, used, combined, answered] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/runs", params)),
      take(api.GET("/api/v1/projects/{project_id}/clips", params)),
      take(api.GET("/api/v1/projects/{project_id}/detections", params)),
      take(api.GET("/api/v1/projects/{project_id}/ensembles", params)),
      take(api.GET("/api/v1/projects/{project_id}/addresses", params)),
    ]);
    ensembles.value = combined.ensembles;
    addresses.value = answered.addresses;
    runs.value = listed.runs;
    clips.value = found.clips;
    detections.value = used.detections;
    loaded.value = true;
    failed.value = "";
  } catch (error) {
    failed.value = wordsOf(error);
  }
}
const objects = (each: Detection): number | null => {
  const found = each.summary.objects as Record<string, number> | null | undefined;
  return found ? Object.values(found).reduce((all, one) => all + one, 0) : null;
};

onMounted(load);
const forget = store.onJob((job) => {
  if (job.kind === "detect" && job.state !== "running") void load();
});
onBeforeUnmount(forget);
</script>

<template>
  <div class="view">
    <UseHead />
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
        <RunForm :runs="usable" :clips="clips" :ensembles="ensembles" :addresses="addresses" />
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
                <th class="number">Objects</th>
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
                <td class="number">
                  {{ each.summary.detections === undefined ? "–" : whole(each.summary.detections as number) }}
                </td>
                <td class="number">{{ objects(each) ?? "–" }}</td>
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
  grid-template-columns: 430px minmax(0, 1fr);
  gap: 36px;
  align-items: start;
}
.empty {
  display: grid;
  gap: 12px;
  justify-items: center;
  padding: 90px 0;
  text-align: center;
}
</style>
