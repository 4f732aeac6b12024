<script setup lang="ts">
/** A model proposes boxes for the pictures that nobody has labelled; and what that was worth so far. */
import { computed, ref, watch } from "vue";

import { api, type Ensemble, type Proposed, type Run, take } from "@/api/client";
import FigureSlider from "@/parts/FigureSlider.vue";
import { count, whole } from "@/parts/format";
import { complain, say } from "@/state/notes";
import { useProject } from "@/state/project";
import ClassNames from "@/views/models/ClassNames.vue";
import ModelSelect from "@/views/use/ModelSelect.vue";
import { numbersOf, ownScore, runOf } from "@/views/use/models";

const shown = defineModel<boolean>({ required: true });
const emit = defineEmits<{ proposed: [] }>();
const store = useProject();

const runs = ref<Run[]>([]);
const ensembles = ref<Ensemble[]>([]);
const now = ref<Proposed | null>(null);
const model = ref("");
const score = ref(ownScore(undefined));
const named = ref<Record<string, string>>({});
const busy = ref(false);

const usable = computed(() => runs.value.filter((run) => run.has_model));
const labour = computed(() => {
  const found = now.value?.labour;
  if (!found?.pictures) return null;
  const boxes = found.kept + found.corrected + found.by_hand;
  return { ...found, boxes, share: boxes ? Math.round((100 * found.kept) / boxes) : 0 };
});

async function load(): Promise<void> {
  const params = { path: { project_id: store.id } };
  try {
    const [listed, combined, proposed] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/runs", { params })),
      take(api.GET("/api/v1/projects/{project_id}/ensembles", { params })),
      take(api.GET("/api/v1/projects/{project_id}/proposals", { params })),
    ]);
    [runs.value, ensembles.value, now.value] = [listed.runs, combined.ensembles, proposed];
    if (!model.value && usable.value[0]) model.value = `run ${usable.value[0].id}`;
  } catch (error) {
    complain(error);
  }
}
watch(shown, (open) => open && void load(), { immediate: true });
watch(model, (chosen) => (score.value = ownScore(runOf(chosen, runs.value))));

async function propose(): Promise<void> {
  busy.value = true;
  try {
    const body = { ...numbersOf(model.value), minimum_score: score.value, class_map: named.value };
    const { outcome } = await store.outcomeOf("propose", take(api.POST("/api/v1/proposals", { body })));
    say(
      outcome.looked_at
        ? `${count(outcome.boxes, "box", "boxes")} proposed on ${count(outcome.pictures, "picture")}`
        : "This model has proposed for all of them already",
    );
    emit("proposed");
    shown.value = false;
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <el-dialog v-model="shown" title="Let a model propose boxes" width="480">
    <div v-if="now" class="body" data-test="propose">
      <p v-if="!usable.length" class="soft">
        No model yet. Label some pictures, train on them, and let the model propose the rest.
      </p>
      <template v-else>
        <ModelSelect v-model="model" :runs="usable" :ensembles="ensembles" label="Model" />
        <ClassNames v-model="named" :model="model" />
        <FigureSlider v-model="score" label="Propose from a score of" :min="0.05" :max="0.99" :step="0.01" />
        <p class="soft">
          For {{ count(now.unlabelled, "unlabelled picture") }}. You keep or refuse each box on its picture; nothing is
          labelled by itself.
          <template v-if="now.proposals"
            >{{ whole(now.proposals) }} proposals wait on {{ count(now.pictures, "picture") }}.</template
          >
        </p>
      </template>
      <section v-if="labour" data-test="labour">
        <h3>So far</h3>
        <p>
          <b class="big">{{ labour.share }} %</b> of {{ count(labour.boxes, "box", "boxes") }} on
          {{ count(labour.pictures, "picture") }} were kept as proposed
        </p>
        <table class="figures">
          <tbody>
            <tr>
              <td>Kept as they were</td>
              <td class="number">{{ whole(labour.kept) }}</td>
            </tr>
            <tr>
              <td>Corrected</td>
              <td class="number">{{ whole(labour.corrected) }}</td>
            </tr>
            <tr>
              <td>Drawn by hand</td>
              <td class="number">{{ whole(labour.by_hand) }}</td>
            </tr>
            <tr>
              <td class="soft">Proposed, and not kept</td>
              <td class="number soft">{{ whole(labour.refused) }}</td>
            </tr>
          </tbody>
        </table>
      </section>
    </div>
    <template #footer>
      <el-button @click="shown = false">Close</el-button>
      <el-button
        type="primary"
        :disabled="!model || !now?.unlabelled"
        :loading="busy"
        data-test="start-proposing"
        @click="propose"
        >Propose</el-button
      >
    </template>
  </el-dialog>
</template>

<style scoped>
.body,
section {
  display: grid;
  gap: 10px;
}
.body :deep(.figure-slider) {
  width: 100%;
}
.big {
  font: 560 20px/1.2 var(--serif);
}
</style>
