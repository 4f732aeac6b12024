<script setup lang="ts">
/** Two models on the same pictures, and speed against accuracy of all. */
import { computed, onMounted, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Beside, type Evaluation, take } from "@/api/client";
import { changeRange, count, gap, precision } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";
import JudgeHead from "@/views/judge/JudgeHead.vue";
import { useMarked, type Wanted } from "@/views/judge/wall/marked";
import MarkedThumbnail from "@/views/judge/wall/MarkedThumbnail.vue";
import OtherModels from "@/views/judge/OtherModels.vue";
import SpeedChart from "@/views/judge/SpeedChart.vue";
import { latestOnly, useThresholds } from "@/views/judge/figures/thresholds";
import ThresholdSliders from "@/views/judge/figures/ThresholdSliders.vue";
import { wordsOf } from "@/state/notes";

const route = useRoute();
const router = useRouter();
const store = useProject();
const all = ref<Evaluation[]>([]);
const evaluations = computed(() => all.value.filter((each) => each.report));
const first = ref<number>();
const second = ref<number>();
const found = ref<Beside | null>(null);
const refused = ref("");
const loaded = ref(false);

const compare = latestOnly(async () => {
  if (!first.value || !second.value || first.value === second.value) {
    found.value = null;
    return;
  }
  try {
    found.value = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}/beside/{other_id}", {
        params: {
          path: { evaluation_id: first.value, other_id: second.value },
          query: { minimum_score: minimumScore.value, overlap_limit: overlapLimit.value },
        },
      }),
    );
    refused.value = "";
  } catch (error) {
    found.value = null;
    refused.value = wordsOf(error);
  }
});
const { minimumScore, overlapLimit, query, begin } = useThresholds(compare);

async function load(): Promise<void> {
  all.value = (
    await take(api.GET("/api/v1/projects/{project_id}/evaluations", { params: { path: { project_id: store.id } } }))
  ).evaluations;
}
onMounted(async () => {
  try {
    await load();
    const known = (value: unknown): number | undefined =>
      evaluations.value.find((each) => each.id === Number(value))?.id;
    first.value = known(route.query.first) ?? evaluations.value[1]?.id;
    const mate = evaluations.value.find((each) => each.id === first.value);
    if (mate) begin(mate.report?.minimum_score ?? minimumScore.value);
    second.value =
      known(route.query.second) ??
      evaluations.value.find(
        (each) => each.id !== first.value && each.part === mate?.part && each.snapshot_id === mate?.snapshot_id,
      )?.id;
  } catch (error) {
    refused.value = wordsOf(error);
  }
  loaded.value = true;
});
watch([first, second], () => {
  void router.replace({ query: { ...route.query, first: first.value, second: second.value } });
  compare();
});
const name = (each: Evaluation): string => `${each.name} on ${each.part ?? "pictures from outside"}, no. ${each.id}`;

const mate = computed(() => evaluations.value.find((each) => each.id === first.value) ?? evaluations.value[0]);
const thresholds = (id: number | undefined): Wanted => ({
  evaluationId: id,
  minimumScore: minimumScore.value,
  overlapLimit: overlapLimit.value,
});
const marked = { first: useMarked(() => thresholds(first.value)), second: useMarked(() => thresholds(second.value)) };
type Differing = Beside["pictures"][number];
/** A picture as either of the two sees it. */
const sides = (each: Differing) => [
  { kind: "first", id: first.value!, errors: each.first_errors, marked: marked.first },
  { kind: "second", id: second.value!, errors: each.second_errors, marked: marked.second },
];
function swap(): void {
  [first.value, second.value] = [second.value, first.value];
}
useKeys([{ keys: ["Shift+c"], label: "Swap the two", run: swap }]);
</script>

<template>
  <div class="view">
    <JudgeHead />
    <div class="view-body">
      <p v-if="loaded && evaluations.length < 2" class="soft">
        Measure two models on the same pictures first.
        <router-link :to="`/project/${store.id}/judge`">To the measurements</router-link>
      </p>
      <template v-else-if="loaded">
        <div class="choice">
          <label
            ><i class="first" />First
            <el-select v-model="first" aria-label="First measurement" style="width: 270px"
              ><el-option v-for="each in evaluations" :key="each.id" :value="each.id" :label="name(each)" /></el-select
          ></label>
          <el-button v-hint="'Swap the two'" size="small" aria-label="Swap the two" @click="swap">Swap</el-button>
          <label
            ><i class="second" />Second
            <el-select v-model="second" aria-label="Second measurement" style="width: 270px"
              ><el-option v-for="each in evaluations" :key="each.id" :value="each.id" :label="name(each)" /></el-select
          ></label>
          <ThresholdSliders v-model:score="minimumScore" v-model:overlap="overlapLimit" />
        </div>
        <p v-if="refused" class="notice bad">{{ refused }}</p>
        <p v-if="found" class="words" data-test="beside-words">{{ found.words }}</p>
        <div class="grid">
          <section v-if="found">
            <table class="figures" data-test="beside-figures">
              <thead>
                <tr>
                  <th>Figure</th>
                  <th class="number">{{ found.first_name }}</th>
                  <th class="number">{{ found.second_name }}</th>
                  <th class="number">Second − first</th>
                  <th class="number">95 % range</th>
                  <th />
                </tr>
              </thead>
              <tbody>
                <tr v-for="each in found.figures" :key="each.name">
                  <td>{{ each.name }}</td>
                  <td class="number">{{ precision(each.first) }}</td>
                  <td class="number">{{ precision(each.second) }}</td>
                  <td class="number">
                    <b>{{ gap(each.first, each.second) }}</b>
                  </td>
                  <td class="number soft">{{ changeRange(each.low, each.high) }}</td>
                  <td :class="each.more_than_chance ? 'sure' : 'soft'">
                    {{ each.verdict }}
                  </td>
                </tr>
              </tbody>
            </table>
            <p class="soft note">
              Classes at IoU 0.5. More than chance: both exchanged their answers on pictures chosen by lot, 1,000 times
              (a randomisation test), and at most 5 in 100 of these differ as much. The range is that of the mean
              difference over many such sets of pictures.
            </p>
          </section>
          <section class="plot">
            <h2>Speed against accuracy</h2>
            <SpeedChart :evaluations="evaluations" :first="first" :second="second" />
            <OtherModels v-if="mate" :like="mate" :evaluations="all" @measured="load" />
          </section>
          <section v-if="found" class="wide" data-test="beside-pictures">
            <h2>Where they differ</h2>
            <p class="soft">
              {{ count(found.both_right, "picture") }} right by both, {{ found.only_first }} only by
              {{ found.first_name }}, {{ found.only_second }} only by {{ found.second_name }}, {{ found.neither }} by
              neither, at these thresholds.
            </p>
            <div class="pictures">
              <figure v-for="each in found.pictures.slice(0, 60)" :key="each.picture_id">
                <div class="pair">
                  <router-link
                    v-for="side in sides(each)"
                    :key="side.kind"
                    :to="{ path: `/project/${store.id}/judge/${side.id}/${each.picture_id}`, query: query() }">
                    <MarkedThumbnail
                      :evaluation-id="side.id"
                      :picture-id="each.picture_id"
                      :name="each.name"
                      :boxes="side.marked.boxes.value.get(each.picture_id)"
                      :class-names="side.marked.names.value"
                      @seen="side.marked.see(each.picture_id, $event)" />
                    <i :class="side.kind" />{{ count(side.errors, "error") }}
                  </router-link>
                </div>
                <figcaption>{{ each.name }}</figcaption>
              </figure>
            </div>
          </section>
        </div>
      </template>
    </div>
  </div>
</template>

<style scoped>
.choice {
  display: flex;
  flex-wrap: wrap;
  gap: 10px 16px;
  align-items: center;
}
.choice label {
  display: flex;
  gap: 7px;
  align-items: center;
  font-weight: 600;
}
.choice :deep(.sliders label) {
  display: grid;
  width: 130px;
  font-weight: 400;
}
i {
  display: inline-block;
  width: 11px;
  height: 11px;
  margin-right: 3px;
  border: 1px solid var(--ink);
}
.first {
  background: #4a7397;
}
.second {
  background: #b5492f;
}
.words {
  font: 560 18px/1.4 var(--serif);
  margin: 14px 0;
  max-width: 900px;
}
.grid {
  display: grid;
  grid-template-columns: minmax(0, 1.75fr) minmax(0, 1fr);
  gap: 20px 30px;
}
.wide {
  grid-column: 1 / -1;
}
.sure {
  font-weight: 600;
}
.note {
  font-size: 13px;
  margin-top: 6px;
}
td {
  padding-top: 4px;
  padding-bottom: 4px;
  white-space: nowrap;
}
.pictures {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(320px, 1fr));
  gap: 12px;
  margin-top: 8px;
}
figure {
  margin: 0;
  font-size: 13px;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 4px;
}
</style>
