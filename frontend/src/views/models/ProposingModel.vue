<script lang="ts">
/** Which model proposes, from which score, and what its classes are called here: as the server is told. */
export interface ProposingChoice {
  run_id: number | null;
  ensemble_id: number | null;
  minimum_score: number;
  class_map: Record<string, string>;
}
</script>

<script setup lang="ts">
/** The part of a dialog in which the model that proposes is chosen. */
import { computed, onMounted, ref, watch } from "vue";

import { api, type Ensemble, type Run, take } from "@/api/client";
import FigureSlider from "@/parts/FigureSlider.vue";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import ClassNames from "@/views/models/ClassNames.vue";
import ModelSelect from "@/views/use/ModelSelect.vue";
import { numbersOf, ownScore, runOf } from "@/views/use/models";

/** Null while there is no model. */
const choice = defineModel<ProposingChoice | null>({ required: true });
const store = useProject();

const runs = ref<Run[] | null>(null);
const ensembles = ref<Ensemble[]>([]);
const model = ref("");
const score = ref(ownScore(undefined));
const named = ref<Record<string, string>>({});
const usable = computed(() => (runs.value ?? []).filter((run) => run.has_model));

onMounted(async () => {
  const params = { path: { project_id: store.id } };
  try {
    const [listed, combined] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/runs", { params })),
      take(api.GET("/api/v1/projects/{project_id}/ensembles", { params })),
    ]);
    [runs.value, ensembles.value] = [listed.runs, combined.ensembles];
    if (usable.value[0]) model.value = `run ${usable.value[0].id}`;
  } catch (error) {
    complain(error);
  }
});
watch(model, (chosen) => (score.value = ownScore(runOf(chosen, runs.value ?? []))));
watch([model, score, named], () => {
  choice.value = model.value ? { ...numbersOf(model.value), minimum_score: score.value, class_map: named.value } : null;
});
</script>

<template>
  <p v-if="runs && !usable.length" class="soft">
    No model yet. Label some pictures, train on them, and let the model propose the rest.
  </p>
  <template v-else>
    <ModelSelect v-model="model" :runs="usable" :ensembles="ensembles" label="Model" />
    <ClassNames v-model="named" :model="model" />
    <FigureSlider v-model="score" label="Propose from a score of" :min="0.05" :max="0.99" :step="0.01" />
    <slot />
  </template>
</template>
