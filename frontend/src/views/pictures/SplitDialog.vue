<script setup lang="ts">
/** Split the pictures into training, validation and test by ratio, from a seed. */
import { computed, reactive, ref, watch } from "vue";

import { api, type Figures, type Job, type Part, type Split, take } from "@/api/client";
import ClassBadge from "@/parts/classes/ClassBadge.vue";
import { capital, count } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { complain } from "@/state/notes";
import { CONSTANTS } from "@/api/declared";
import { useProject } from "@/state/project";
import { inputSide } from "@/state/remembered";

const shown = defineModel<boolean>({ required: true });
const emit = defineEmits<{ changed: [] }>();
const store = useProject();
const parts = ["training", "validation", "test"] as const;
const [training, validation, test] = CONSTANTS.split;
const ratios = reactive({ training, validation, test });
const seed = ref(0);
const now = ref<Split | null>(null);
const figures = ref<Figures | null>(null);
/** Whether folders and archives are kept whole; until somebody says so, where that can be. */
const said = ref<boolean | null>(null);
/** Whether so many things that are kept whole fill the parts, or nothing but single pictures is there to fill them. */
function enough(wholes = 0): boolean {
  const labelled = now.value ? now.value.training + now.value.validation + now.value.test + now.value.unassigned : 0;
  return wholes === labelled || wholes >= parts.filter((part) => ratios[part] > 0).length;
}
const fits = computed(() => enough(now.value?.wholes));
/** There are too few clips for the parts, so that each is cut. */
const cut = computed(() => !enough(now.value?.whole_clips));
const wholeSources = computed({ get: () => said.value ?? fits.value, set: (whole) => (said.value = whole) });
const sources = ref(0);
const busy = ref(false);
const job = ref<Job | null>(null);
const sum = computed(() => ratios.training + ratios.validation + ratios.test);

watch(shown, async (open) => {
  if (!open) return;
  try {
    await load();
  } catch (error) {
    complain(error);
  }
});

async function load(): Promise<void> {
  const path = { project_id: store.id };
  const query = { side: inputSide.value };
  const [counted, held, choices] = await Promise.all([
    take(api.GET("/api/v1/projects/{project_id}/split", { params: { path } })),
    take(api.GET("/api/v1/projects/{project_id}/figures", { params: { path, query } })),
    take(api.GET("/api/v1/projects/{project_id}/choices", { params: { path } })),
  ]);
  now.value = counted;
  figures.value = held;
  sources.value = choices.sources.length;
}

/** Classes with boxes that are in no training, or in no validation picture. */
const missing = computed(() =>
  store.classes.flatMap((each) => {
    const held = (part: Part): number => figures.value?.parts[part]?.by_class[each.id] ?? 0;
    const pictures = (part: Part): number => figures.value?.parts[part]?.pictures ?? 0;
    if (!each.boxes) return [];
    return parts.filter((part) => pictures(part) && !held(part)).map((part) => `${each.name} has no box in ${part}`);
  }),
);

async function split(): Promise<void> {
  busy.value = true;
  try {
    const starting = take(
      api.PUT("/api/v1/projects/{project_id}/split", {
        params: { path: { project_id: store.id } },
        body: { ...ratios, seed: seed.value, whole_sources: wholeSources.value },
      }),
    );
    const { outcome } = await store.outcomeOf("split_pictures", starting, (started) => (job.value = started));
    await load();
    emit("changed");
    const { training, validation, test } = outcome.labelled;
    store.sayChange(
      `Labelled: ${training} training, ${validation} validation, ${test} test`,
      outcome.change_id,
      async () => {
        await load();
        emit("changed");
      },
    );
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
    job.value = null;
  }
}
</script>

<template>
  <el-dialog v-model="shown" title="Split the pictures" width="640" top="6vh">
    <form novalidate data-test="split-form" @submit.prevent="split">
      <p class="soft">
        A detector learns from the training part, is validated on the validation part, and is judged for good on the
        test part. <template v-if="!cut">Frames of one clip stay together, and every</template
        ><template v-else>Every</template> part gets its share of each class.
      </p>
      <table class="figures">
        <thead>
          <tr>
            <th>Part</th>
            <th class="number">Share</th>
            <th class="number">Pictures</th>
            <th class="number">Labelled</th>
            <th class="number">Boxes</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="part in parts" :key="part">
            <td>{{ capital(part) }}</td>
            <td class="number">
              <el-input-number
                v-model="ratios[part]"
                :min="0"
                :max="100"
                :step="5"
                size="small"
                :aria-label="`${part} share`" />
              %
            </td>
            <td class="number">{{ figures?.parts[part]?.pictures ?? "–" }}</td>
            <td class="number">{{ now?.[part] ?? "–" }}</td>
            <td class="number">{{ figures?.parts[part]?.boxes ?? "–" }}</td>
          </tr>
          <tr v-if="figures?.parts['']?.pictures">
            <td>Unassigned</td>
            <td />
            <td class="number">{{ figures.parts[""].pictures }}</td>
            <td class="number">{{ now?.unassigned }}</td>
            <td class="number">{{ figures.parts[""].boxes }}</td>
          </tr>
        </tbody>
      </table>
      <details v-if="figures && store.classes.length" :open="missing.length > 0">
        <summary>Boxes of each class</summary>
        <div class="scroll">
          <table class="figures">
            <tbody>
              <tr v-for="each in store.classes" :key="each.id">
                <td><ClassBadge :number="each.position" :colour="each.colour" :name="each.name" /></td>
                <td
                  v-for="part in parts"
                  :key="part"
                  class="number"
                  :class="{ bad: each.boxes && !figures.parts[part]?.by_class[each.id] }">
                  {{ figures.parts[part]?.by_class[each.id] ?? 0 }}
                </td>
              </tr>
            </tbody>
          </table>
        </div>
      </details>
      <p v-if="missing.length" class="notice bad" data-test="split-missing">{{ missing.join("; ") }}</p>
      <p v-if="sum !== 100" class="soft">The shares add up to {{ sum }} %; they count as ratios.</p>
      <div class="line">
        <label>Seed <el-input-number v-model="seed" :min="0" :max="4294967295" size="small" /></label>
        <el-checkbox v-if="sources" v-model="wholeSources" size="small">Keep folders and archives whole</el-checkbox>
      </div>
      <p v-if="cut" class="notice" data-test="cut-clips">
        The labelled frames come from too few clips to keep each whole, so each is cut into stretches, one for each
        part. Frames of one clip look alike; add pictures from elsewhere for a test to be trusted.
      </p>
      <p v-else-if="sources && !wholeSources" class="notice" data-test="parted-sources">
        <template v-if="!fits">The labelled pictures come from too few folders to keep each whole. </template>
        Pictures taken in one place look alike. In two parts they make a detector seem better than it is<template
          v-if="!fits"
          >; add some from elsewhere for a test to be trusted</template
        >.
      </p>
      <p class="foot">
        <JobState v-if="busy && job" :job="store.jobs.get(job.id) ?? job" />
        <span v-else-if="now" class="soft"
          >All {{ count(store.project?.stages.pictures ?? 0, "picture") }} get a part anew.</span
        >
        <el-button type="primary" native-type="submit" :disabled="sum <= 0 || busy" data-test="split-now"
          >Split</el-button
        >
      </p>
    </form>
  </el-dialog>
</template>

<style scoped>
form {
  display: grid;
  gap: 10px;
}
.foot,
.line {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
.line label {
  display: flex;
  gap: 10px;
  align-items: center;
}
.scroll {
  max-height: 190px;
  overflow: auto;
}
summary {
  cursor: pointer;
}
td {
  padding-top: 3px;
  padding-bottom: 3px;
}
</style>
