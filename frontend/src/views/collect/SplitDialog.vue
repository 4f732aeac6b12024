<script setup lang="ts">
/** Split the pictures into training, validation and test by ratio, from a seed. */
import { computed, reactive, ref, watch } from "vue";

import { api, type Part, type Split, take } from "@/api/client";
import { capital, count } from "@/parts/format";
import { complain, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";

const shown = defineModel<boolean>({ required: true });
const emit = defineEmits<{ changed: [] }>();
const store = useProject();
const parts = ["training", "validation", "test"] as const;
const ratios = reactive({ training: 70, validation: 20, test: 10 });
const seed = ref(0);
const now = ref<Split | null>(null);
const sum = computed(() => ratios.training + ratios.validation + ratios.test);

watch(shown, async (open) => {
  if (!open) return;
  try {
    now.value = await take(api.GET("/api/v1/projects/{project_id}/split", { params: { path: { project_id: store.id } } }));
  } catch (error) {
    complain(error);
  }
});

async function partsNow(): Promise<Map<Part | null, number[]>> {
  const found = new Map<Part | null, number[]>([[null, []]]);
  const all = await take(
    api.GET("/api/v1/projects/{project_id}/picture-ids", { params: { path: { project_id: store.id } } }),
  );
  const rest = new Set(all.ids);
  for (const part of parts) {
    const some = await take(
      api.GET("/api/v1/projects/{project_id}/picture-ids", {
        params: { path: { project_id: store.id }, query: { part } },
      }),
    );
    found.set(part, some.ids);
    some.ids.forEach((id) => rest.delete(id));
  }
  found.set(null, [...rest]);
  return found;
}

async function split(): Promise<void> {
  try {
    const before = await partsNow();
    now.value = await take(
      api.PUT("/api/v1/projects/{project_id}/split", {
        params: { path: { project_id: store.id } },
        body: { ...ratios, seed: seed.value },
      }),
    );
    shown.value = false;
    emit("changed");
    const { training, validation, test } = now.value;
    sayWithUndo(`Labelled: ${training} training, ${validation} validation, ${test} test`, async () => {
      for (const [part, ids] of before) {
        if (!ids.length) continue;
        await take(
          api.PUT("/api/v1/projects/{project_id}/parts", {
            params: { path: { project_id: store.id } },
            body: { ids, part },
          }),
        );
      }
      emit("changed");
    });
  } catch (error) {
    complain(error);
  }
}
</script>

<template>
  <el-dialog v-model="shown" title="Split the pictures" width="500">
    <form novalidate data-test="split-form" @submit.prevent="split">
      <p class="soft">
        A detector learns from the training part, is watched on the validation part, and is judged for good on the test
        part. Frames of one clip stay together.
      </p>
      <table class="figures">
        <thead>
          <tr><th>Part</th><th class="number">Share</th><th class="number">Labelled now</th></tr>
        </thead>
        <tbody>
          <tr v-for="part in parts" :key="part">
            <td>{{ capital(part) }}</td>
            <td class="number">
              <el-input-number v-model="ratios[part]" :min="0" :max="100" :step="5" size="small" :aria-label="`${part} share`" /> %
            </td>
            <td class="number">{{ now?.[part] ?? "–" }}</td>
          </tr>
          <tr v-if="now?.unassigned">
            <td>None</td><td /><td class="number">{{ now.unassigned }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="sum !== 100" class="soft">The shares add up to {{ sum }} %; they count as ratios.</p>
      <label class="seed">Seed <el-input-number v-model="seed" :min="0" :max="4294967295" size="small" /></label>
      <p class="foot">
        <span v-if="now" class="soft">All {{ count(store.project?.stages.pictures ?? 0, "picture") }} get a part anew.</span>
        <el-button type="primary" native-type="submit" :disabled="sum <= 0" data-test="split-now">Split</el-button>
      </p>
    </form>
  </el-dialog>
</template>

<style scoped>
form { display: grid; gap: 12px; }
.foot { display: flex; justify-content: space-between; align-items: center; }
.seed { display: flex; gap: 10px; align-items: center; }
</style>
