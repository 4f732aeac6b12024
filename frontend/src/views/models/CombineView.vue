<script setup lang="ts">
/** Boxes of several models on one picture: combined, next to all together merely suppressed; saved as an ensemble. */
import { computed, onMounted, reactive, ref, watch } from "vue";
import { useRouter } from "vue-router";

import { api, type Ensemble, type FusedBox, type Outcome, type Run, take } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import { count } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import PicturePick from "@/views/anatomy/PicturePick.vue";
import JudgeHead from "@/views/judge/JudgeHead.vue";
import { measure } from "@/views/judge/measureOrder";
import { latestOnly } from "@/views/judge/figures/thresholds";
import BoxedPicture from "@/parts/BoxedPicture.vue";
import FigureSlider from "@/parts/FigureSlider.vue";

const store = useProject();
const router = useRouter();
const runs = ref<Run[]>([]);
const ensembles = ref<Ensemble[]>([]);
const chosen = ref<number[]>([]);
const weights = reactive<Record<number, number>>({});
const pictureId = ref<number>();
const overlap = ref(CONSTANTS.fusion_iou);
const score = ref(CONSTANTS.minimum_score);
const name = ref("");
const method = ref<"fusion" | "suppression">("fusion");
const jobId = ref(0);
const found = ref<Outcome<"find_boxes"> | null>(null);
const made = ref<{ fused: FusedBox[]; suppressed: FusedBox[]; class_names: string[] } | null>(null);
const busy = ref(false);
const binned = ref(false);
const failed = ref("");
const usable = computed(() => runs.value.filter((run) => run.has_model));
const members = computed(() => chosen.value.map((run_id) => ({ run_id, weight: weights[run_id] ?? 1 })));

async function load(): Promise<void> {
  try {
    const params = { params: { path: { project_id: store.id } } };
    const [listed, combined] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/runs", params)),
      take(
        api.GET("/api/v1/projects/{project_id}/ensembles", {
          params: { ...params.params, query: { binned: binned.value } },
        }),
      ),
    ]);
    runs.value = listed.runs;
    ensembles.value = combined.ensembles;
    if (!chosen.value.length) chosen.value = usable.value.slice(0, 2).map((run) => run.id);
  } catch (error) {
    failed.value = wordsOf(error);
  }
}
onMounted(load);
watch(binned, load);

const ask = latestOnly(async () => {
  if (!pictureId.value || !chosen.value.length) return;
  busy.value = true;
  failed.value = "";
  try {
    const starting = take(
      api.POST("/api/v1/projects/{project_id}/fusions", {
        params: { path: { project_id: store.id } },
        body: { picture_id: pictureId.value, run_ids: chosen.value },
      }),
    );
    const { outcome, job } = await store.outcomeOf("find_boxes", starting);
    jobId.value = job.id;
    found.value = outcome;
    combine();
  } catch (error) {
    failed.value = wordsOf(error);
  } finally {
    busy.value = false;
  }
});
watch([chosen, pictureId], ask, { deep: true });
const combine = latestOnly(async () => {
  if (!found.value) return;
  try {
    const body = {
      weights: found.value.models.map((model) => weights[model.run_id] ?? 1),
      overlap_limit: overlap.value,
      minimum_score: score.value,
    };
    made.value = await take(api.POST("/api/v1/fusions/{job_id}", { params: { path: { job_id: jobId.value } }, body }));
  } catch (error) {
    failed.value = wordsOf(error);
  }
});
watch([weights, overlap, score], combine, { deep: true });

async function save(): Promise<void> {
  if (chosen.value.length < 2) return;
  try {
    const saved = await take(
      api.POST("/api/v1/projects/{project_id}/ensembles", {
        params: { path: { project_id: store.id } },
        body: { name: name.value, members: members.value, method: method.value, overlap_limit: overlap.value },
      }),
    );
    name.value = "";
    await load();
    sayWithUndo(`Saved as ${saved.name}`, () => bin(saved, true));
  } catch (error) {
    complain(error);
  }
}
async function bin(ensemble: Ensemble, into: boolean): Promise<void> {
  try {
    await take(
      api.PUT("/api/v1/ensembles/{ensemble_id}/binned", {
        params: { path: { ensemble_id: ensemble.id } },
        body: { binned: into },
      }),
    );
    await load();
    sayWithUndo(`${ensemble.name} ${into ? "moved to the bin" : "restored"}`, () => bin(ensemble, !into));
  } catch (error) {
    complain(error);
  }
}
async function judge(ensemble: Ensemble): Promise<void> {
  try {
    const first = runs.value.find((run) => run.id === ensemble.members[0]?.run_id);
    const started = await measure(store.id, { ensemble_id: ensemble.id, snapshot_id: first?.snapshot_id ?? null });
    await router.push(`/project/${store.id}/judge/${started.id}`);
  } catch (error) {
    complain(error);
  }
}
const picture = computed(() =>
  found.value
    ? { id: found.value.picture_id, name: "picture", width: found.value.width, height: found.value.height }
    : null,
);
const names = computed(() => made.value?.class_names ?? []);
const drawn = (boxes: FusedBox[]) =>
  boxes.map((box) => ({ corners: box.corners, classIndex: names.value.indexOf(box.name), score: box.score }));
const single = (model: Outcome<"find_boxes">["models"][number]) =>
  model.boxes
    .map((corners, index) => ({
      corners,
      classIndex: names.value.indexOf(model.classes[index]!),
      score: model.scores[index]!,
    }))
    .filter((box) => box.score >= score.value);
useKeys([{ keys: ["Ctrl+s"], label: "Save as an ensemble", run: save }]);
</script>

<template>
  <div class="view">
    <JudgeHead />
    <div class="view-body">
      <p v-if="failed" class="notice bad">{{ failed }}</p>
      <p v-if="!usable.length" class="soft">
        There is no model to combine yet. <router-link :to="`/project/${store.id}/train`">To Train</router-link>
      </p>
      <div v-else class="both">
        <aside>
          <h2>Models</h2>
          <el-checkbox-group v-model="chosen" aria-label="Models" data-test="members">
            <div v-for="run in usable" :key="run.id" class="member">
              <el-checkbox :value="run.id" :disabled="!chosen.includes(run.id) && chosen.length >= 8">{{
                run.name
              }}</el-checkbox>
              <label v-if="chosen.includes(run.id)"
                >weight
                <el-input-number
                  :model-value="weights[run.id] ?? 1"
                  :min="0.1"
                  :max="100"
                  :step="0.5"
                  size="small"
                  :aria-label="`Weight of ${run.name}`"
                  @update:model-value="weights[run.id] = $event ?? 1"
              /></label>
            </div>
          </el-checkbox-group>
          <label>On <PicturePick v-model="pictureId" /></label>
          <FigureSlider v-model="overlap" label="Overlap of the same object" :min="0.05" :max="0.95" :step="0.05" />
          <FigureSlider v-model="score" label="Minimum score" :min="0.05" :max="0.95" :step="0.05" />
          <form novalidate class="save" @submit.prevent="save">
            <el-input
              v-model="name"
              size="small"
              placeholder="Name of the ensemble"
              aria-label="Name of the ensemble"
              data-test="ensemble-name" />
            <el-radio-group v-model="method" size="small" aria-label="How boxes are combined"
              ><el-radio-button value="fusion">Combined</el-radio-button
              ><el-radio-button value="suppression">Only suppressed</el-radio-button></el-radio-group
            >
            <el-button
              v-hint="'Save as an ensemble'"
              type="primary"
              size="small"
              native-type="submit"
              :disabled="chosen.length < 2"
              data-test="save-ensemble"
              >Save as an ensemble</el-button
            >
          </form>
          <div class="ensembles-head">
            <h2>Ensembles</h2>
            <el-checkbox v-model="binned" size="small" data-test="bin">Bin</el-checkbox>
          </div>
          <p v-if="!ensembles.length" class="soft small">{{ binned ? "No ensemble is in the bin." : "None yet." }}</p>
          <template v-else>
            <div v-for="each in ensembles" :key="each.id" class="ensemble" data-test="ensemble">
              <b>{{ each.name }}</b><span class="soft"
                >{{ each.members.map((member) => `${member.name} × ${member.weight}`).join(", ") }};
                {{ each.method === "fusion" ? "combined" : "only suppressed" }}, overlap {{ each.overlap_limit }}</span
              >
              <span v-if="binned"
                ><el-button size="small" data-test="restore-ensemble" @click="bin(each, false)"
                  >Restore</el-button
                ></span
              >
              <span v-else
                ><el-button size="small" data-test="judge-ensemble" @click="judge(each)">Measure</el-button
                ><el-button size="small" data-test="bin-ensemble" @click="bin(each, true)">Move to bin</el-button></span
              >
            </div>
            <p class="soft small">Judge and Use take an ensemble like a model.</p>
          </template>
        </aside>
        <section>
          <p v-if="busy" class="soft">Asking {{ count(chosen.length, "model") }}…</p>
          <div v-if="made && picture && found" class="pictures" data-test="fusion">
            <figure>
              <figcaption>
                <b>Combined</b> by weighted box fusion: {{ count(made.fused.length, "box", "boxes") }}
              </figcaption>
              <BoxedPicture :picture="picture" :names="names" :boxes="drawn(made.fused)" scores />
            </figure>
            <figure>
              <figcaption>
                <b>All together, suppressed</b>: {{ count(made.suppressed.length, "box", "boxes") }}
              </figcaption>
              <BoxedPicture :picture="picture" :names="names" :boxes="drawn(made.suppressed)" scores />
            </figure>
            <figure v-for="model in found.models" :key="model.run_id">
              <figcaption>{{ model.name }}: {{ count(single(model).length, "box", "boxes") }}</figcaption>
              <BoxedPicture :picture="picture" :names="names" :boxes="single(model)" scores />
            </figure>
          </div>
          <p v-else-if="!busy" class="soft">Choose models and a picture.</p>
        </section>
      </div>
    </div>
  </div>
</template>

<style scoped>
.both {
  display: grid;
  grid-template-columns: 300px minmax(0, 1fr);
  gap: 28px;
  align-items: start;
}
aside {
  display: grid;
  gap: 10px;
}
.member {
  display: flex;
  gap: 8px;
  align-items: center;
  justify-content: space-between;
}
.member label,
aside > label {
  display: flex;
  gap: 7px;
  align-items: center;
}
.member :deep(.el-input-number) {
  width: 92px;
}
aside > .figure-slider {
  display: grid;
  width: 100%;
}
.save {
  display: grid;
  gap: 6px;
}
.ensemble {
  display: grid;
  gap: 3px;
  border-top: 1px solid var(--rule);
  padding-top: 6px;
  font-size: 14px;
}
.ensembles-head {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
.small {
  font-size: 13px;
}
.pictures {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 14px 18px;
}
figure {
  margin: 0;
}
figcaption {
  font-size: 14px;
  margin-bottom: 3px;
}
</style>
