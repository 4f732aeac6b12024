<script setup lang="ts">
/** A model proposes the objects of a clip: found on every frame, linked, and told by few boxes. */
import { computed, ref, watch } from "vue";

import { api, type ClipDetail, type Ensemble, type Run, take } from "@/api/client";
import FigureSlider from "@/parts/FigureSlider.vue";
import { count } from "@/parts/format";
import { complain, say } from "@/state/notes";
import { useProject } from "@/state/project";
import ClassNames from "@/views/models/ClassNames.vue";
import ModelSelect from "@/views/use/ModelSelect.vue";
import { numbersOf, ownScore, runOf } from "@/views/use/models";

const shown = defineModel<boolean>({ required: true });
const props = defineProps<{ clip: ClipDetail }>();
const emit = defineEmits<{ proposed: [] }>();
const store = useProject();

const runs = ref<Run[] | null>(null);
const ensembles = ref<Ensemble[]>([]);
const model = ref("");
const score = ref(ownScore(undefined));
const named = ref<Record<string, string>>({});
const jobId = ref(0);

const usable = computed(() => (runs.value ?? []).filter((run) => run.has_model));
const job = computed(() => store.jobs.get(jobId.value));

async function load(): Promise<void> {
  const params = { path: { project_id: store.id } };
  try {
    const [listed, combined] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/runs", { params })),
      take(api.GET("/api/v1/projects/{project_id}/ensembles", { params })),
    ]);
    [runs.value, ensembles.value] = [listed.runs, combined.ensembles];
    if (!model.value && usable.value[0]) model.value = `run ${usable.value[0].id}`;
  } catch (error) {
    complain(error);
  }
}
watch(shown, (open) => open && void load(), { immediate: true });
watch(model, (chosen) => (score.value = ownScore(runOf(chosen, runs.value ?? []))));

async function propose(): Promise<void> {
  const params = { path: { clip_id: props.clip.id } };
  const body = { ...numbersOf(model.value), minimum_score: score.value, class_map: named.value };
  try {
    const asking = take(api.POST("/api/v1/clips/{clip_id}/proposed", { params, body }));
    const { outcome } = await store.outcomeOf("propose_tracks", asking, (started) => (jobId.value = started.id));
    const known = outcome.known ? `; ${outcome.known} are labelled or were refused already` : "";
    say(`${count(outcome.tracks, "object")} proposed${known}`);
    emit("proposed");
    shown.value = false;
  } catch (error) {
    complain(error);
  } finally {
    jobId.value = 0;
  }
}
</script>

<template>
  <el-dialog v-model="shown" title="Let a model propose objects" width="480">
    <div class="body" data-test="propose">
      <p v-if="runs && !usable.length" class="soft">
        No model yet. Label some frames, train on them, and let the model propose the rest.
      </p>
      <template v-else>
        <ModelSelect v-model="model" :runs="usable" :ensembles="ensembles" label="Model" />
        <ClassNames v-model="named" :model="model" />
        <FigureSlider v-model="score" label="Propose from a score of" :min="0.05" :max="0.99" :step="0.01" />
        <p class="soft">
          On all {{ clip.times.length }} frames of {{ clip.name }}. You keep or refuse each object; nothing is labelled
          by itself.
        </p>
      </template>
      <template v-if="jobId">
        <el-progress
          :percentage="Math.floor((100 * (job?.done ?? 0)) / Math.max(1, job?.total ?? 1))"
          :stroke-width="6" />
        <p class="soft">{{ job?.message || "Waiting for its turn" }}</p>
      </template>
    </div>
    <template #footer>
      <el-button v-if="jobId" @click="store.stop(jobId)">Stop</el-button>
      <el-button v-else @click="shown = false">Close</el-button>
      <el-button type="primary" :disabled="!model" :loading="jobId > 0" data-test="start-proposing" @click="propose"
        >Propose</el-button
      >
    </template>
  </el-dialog>
</template>

<style scoped>
.body {
  display: grid;
  gap: 10px;
}
.body :deep(.figure-slider) {
  width: 100%;
}
</style>
