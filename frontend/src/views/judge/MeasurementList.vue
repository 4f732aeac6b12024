<script setup lang="ts">
/** The measurements there are, or those in the bin: two can be compared, any be moved there and restored. */
import { computed, ref } from "vue";
import { useRouter } from "vue-router";

import { api, type Evaluation, take } from "@/api/client";
import { between, count, day, precision } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";

const props = defineProps<{ evaluations: Evaluation[] }>();
const binned = defineModel<boolean>("binned", { required: true });
const emit = defineEmits<{ changed: [] }>();
const store = useProject();
const router = useRouter();
const live = useLiveJob();
const selected = ref<number[]>([]);
const shown = computed(() => selected.value.filter((id) => props.evaluations.some((each) => each.id === id)));

function toggle(each: Evaluation): void {
  const on = shown.value.includes(each.id);
  selected.value = on ? shown.value.filter((id) => id !== each.id) : [...shown.value, each.id];
}

async function bin(ids: number[], into: boolean): Promise<void> {
  if (!ids.length) return;
  try {
    for (const evaluation_id of ids) {
      const params = { path: { evaluation_id } };
      await take(api.PUT("/api/v1/evaluations/{evaluation_id}/binned", { params, body: { binned: into } }));
    }
    selected.value = [];
    const words = `${count(ids.length, "measurement")} ${into ? "moved to the bin" : "restored"}`;
    sayWithUndo(words, () => bin(ids, !into));
  } catch (error) {
    complain(error);
  }
  emit("changed");
  void store.refresh();
}

const beside = computed(() => {
  const measured = shown.value.filter((id) => props.evaluations.find((each) => each.id === id)?.report);
  if (shown.value.length !== 2 || measured.length !== 2) return "";
  return `/project/${store.id}/judge/beside?first=${measured[0]}&second=${measured[1]}`;
});
const idle = (each: Evaluation): boolean => !["running", "waiting"].includes(live(each.job).state);
const where = (each: Evaluation): string => each.part ?? (each.settings.sent as Record<string, string>).truth ?? "";

useKeys([
  {
    keys: ["c"],
    label: "Compare the two selected measurements",
    run: () => void (beside.value && router.push(beside.value)),
  },
  {
    keys: ["Delete"],
    label: "Move the selected measurements to the bin",
    run: () => !binned.value && bin(shown.value, true),
  },
]);
</script>

<template>
  <div class="list-head">
    <h2>Measurements</h2>
    <span v-if="!binned && evaluations.length > 1" class="soft">Select two to see them side by side.</span>
    <el-button
      v-if="!binned"
      v-hint="'Compare the two selected measurements'"
      size="small"
      :disabled="!beside"
      data-test="compare-two"
      @click="router.push(beside)">
      Compare
    </el-button>
    <el-button
      v-if="!binned"
      v-hint="'Move the selected measurements to the bin'"
      size="small"
      :disabled="!shown.length"
      data-test="bin-measurements"
      @click="bin(shown, true)">
      Move to bin
    </el-button>
    <el-button v-else size="small" :disabled="!shown.length" data-test="restore-measurements" @click="bin(shown, false)"
      >Restore</el-button
    >
    <el-checkbox v-model="binned" size="small" data-test="bin">Bin</el-checkbox>
  </div>
  <p v-if="!evaluations.length" class="soft">{{ binned ? "No measurement is in the bin." : "No measurement yet." }}</p>
  <table v-else class="figures">
    <thead>
      <tr>
        <th />
        <th>Model</th>
        <th>On</th>
        <th class="number">mAP at 0.5</th>
        <th class="number">95 % range</th>
        <th class="number">at 0.50:0.95</th>
        <th class="number">Time a picture</th>
        <th class="number">Pictures</th>
        <th>Rule</th>
        <th>State</th>
        <th>When</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="each in evaluations" :key="each.id" data-test="evaluation-row">
        <td>
          <el-checkbox
            v-if="idle(each)"
            :model-value="shown.includes(each.id)"
            :aria-label="`Select ${each.name}`"
            size="small"
            @change="toggle(each)" />
        </td>
        <td>
          <router-link :to="`/project/${store.id}/judge/${each.id}`">{{ each.name }}</router-link>
        </td>
        <td>
          {{ where(each) }} <small v-if="each.snapshot_hash" class="soft">{{ each.snapshot_hash.slice(0, 6) }}</small>
        </td>
        <td class="number">
          <b>{{ precision(each.report?.map50) }}</b>
        </td>
        <td class="number soft">{{ between(each.report?.map50_interval) }}</td>
        <td class="number">{{ precision(each.report?.map) }}</td>
        <td class="number">{{ each.report?.milliseconds ? `${each.report.milliseconds.toFixed(0)} ms` : "–" }}</td>
        <td class="number">{{ each.report?.pictures ?? "–" }}</td>
        <td class="soft">{{ each.report?.interpolation ?? "" }}</td>
        <td><JobState :job="live(each.job)" /></td>
        <td class="soft">{{ day(each.created_at) }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.list-head {
  display: flex;
  gap: 16px;
  align-items: center;
  margin: 20px 0 4px;
}
td:first-child {
  width: 30px;
}
</style>
