<script setup lang="ts">
/** Models that nobody measured on these pictures yet, and one button that measures them all. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";

import { api, type Ensemble, type Evaluation, type Run, take } from "@/api/client";
import { count } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import { useKeys } from "@/state/keys";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import { measure } from "@/views/judge/measureOrder";

const props = defineProps<{ like: Evaluation; evaluations: Evaluation[] }>();
const emit = defineEmits<{ measured: [] }>();
const store = useProject();
const live = useLiveJob();
const runs = ref<Run[]>([]);
const ensembles = ref<Ensemble[]>([]);
const busy = ref(false);
const same = computed(() =>
  props.evaluations.filter((each) => each.part === props.like.part && each.snapshot_id === props.like.snapshot_id),
);
const others = computed(() => [
  ...runs.value
    .filter((run) => run.has_model && !same.value.some((each) => each.run_id === run.id))
    .map((run) => ({ name: run.name, order: { run_id: run.id } })),
  ...ensembles.value
    .filter((each) => !same.value.some((other) => other.ensemble_id === each.id))
    .map((each) => ({ name: each.name, order: { ensemble_id: each.id } })),
]);
const unfinished = computed(() => same.value.filter((each) => !each.report));

async function start(): Promise<void> {
  if (busy.value || !others.value.length) return;
  busy.value = true;
  try {
    const { interpolation, areas } = props.like.settings as { interpolation: "101-point"; areas: [number, number] };
    for (const { order } of others.value)
      await measure(store.id, {
        ...order,
        part: props.like.part,
        snapshot_id: props.like.snapshot_id,
        interpolation,
        areas,
      });
  } catch (error) {
    complain(error);
  }
  busy.value = false;
  emit("measured");
}
onMounted(async () => {
  const params = { params: { path: { project_id: store.id } } };
  try {
    const [listed, combined] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/runs", params)),
      take(api.GET("/api/v1/projects/{project_id}/ensembles", params)),
    ]);
    runs.value = listed.runs;
    ensembles.value = combined.ensembles;
  } catch (error) {
    complain(error);
  }
});
onBeforeUnmount(
  store.onJob((job) => {
    if (job.kind === "evaluate" && job.state !== "running") emit("measured");
  }),
);
useKeys([{ keys: ["m"], label: "Measure the other models on these pictures", run: start }]);
</script>

<template>
  <div v-if="like.snapshot_id && (others.length || unfinished.length)" class="others">
    <el-button
      v-if="others.length"
      size="small"
      :loading="busy"
      :title="others.map((each) => each.name).join(', ')"
      data-test="measure-others"
      @click="start">
      Measure {{ count(others.length, "other model") }} on these pictures
    </el-button>
    <p v-for="each in unfinished" :key="each.id" class="soft" data-test="unfinished">
      <router-link :to="`/project/${store.id}/judge/${each.id}`">{{ each.name }}</router-link>
      <JobState :job="live(each.job)" />
    </p>
  </div>
</template>

<style scoped>
.others {
  display: grid;
  gap: 4px;
  justify-items: start;
  margin-top: 8px;
}
p {
  margin: 0;
  display: flex;
  gap: 8px;
  align-items: center;
}
</style>
