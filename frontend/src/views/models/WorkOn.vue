<script setup lang="ts">
/** Where work is done: on this machine, or on the machines of a cluster; nothing where the server works with none. */
import { computed, onMounted, ref } from "vue";

import { api, type MachineSeen, take } from "@/api/client";
import { count } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";

const onCluster = defineModel<boolean>({ required: true });
/** By one machine of the cluster alone. */
const apart = defineModel<boolean>("apart");
/** Whether that can be chosen. */
const props = defineProps<{ single?: boolean }>();
const store = useProject();

const where = computed({
  get: (): "here" | "cluster" | "apart" =>
    props.single && apart.value ? "apart" : onCluster.value ? "cluster" : "here",
  set(chosen) {
    onCluster.value = chosen === "cluster";
    // Also where it cannot be chosen: what was chosen elsewhere for the same draft is over.
    apart.value = chosen === "apart";
  },
});

const address = ref<string | null>(null);
const shown = ref(false);
const machines = ref<MachineSeen[] | null>(null);
const failed = ref("");

onMounted(async () => {
  try {
    address.value = (await take(api.GET("/api/v1/cluster"))).address;
  } catch (error) {
    complain(error);
  }
});

async function look(): Promise<void> {
  shown.value = true;
  [machines.value, failed.value] = [null, ""];
  const params = { path: { project_id: store.id } };
  try {
    const asking = take(api.POST("/api/v1/projects/{project_id}/machines", { params }));
    machines.value = (await store.outcomeOf("look_at_machines", asking)).outcome.machines;
  } catch (error) {
    failed.value = wordsOf(error);
  }
}
useKeys([
  {
    keys: ["Shift+v"],
    label: "View the machines of the cluster",
    run: () => (address.value ? look() : false),
  },
]);

const memory = (bytes: number): string => `${(bytes / 1e9).toFixed(bytes < 1e10 ? 1 : 0)} GB`;
</script>

<template>
  <div v-if="address" class="work-on" data-test="work-on">
    <el-radio-group v-model="where" size="small" aria-label="Work on">
      <el-radio-button value="here">This machine</el-radio-button>
      <el-radio-button value="cluster" data-test="on-cluster">{{
        single ? "The cluster together" : "The cluster"
      }}</el-radio-button>
      <el-radio-button v-if="single" value="apart" data-test="apart">One machine of it</el-radio-button>
    </el-radio-group>
    <el-button v-hint="'View the machines of the cluster'" link type="primary" data-test="see-machines" @click="look"
      >Machines</el-button
    >
    <el-dialog v-model="shown" title="Machines of the cluster" width="720">
      <p v-if="failed" class="notice bad" data-test="machines-failed">
        {{ failed }} <el-button link type="primary" @click="look">Try again</el-button>
      </p>
      <p v-else-if="!machines" class="soft">Asking {{ address === "local" ? "this machine" : address }}</p>
      <template v-else>
        <table class="figures" data-test="machines">
          <thead>
            <tr>
              <th>Machine</th>
              <th class="number">Cores</th>
              <th class="number">Memory</th>
              <th class="number">Accelerators</th>
              <th>Runs now</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(each, place) in machines" :key="place" :class="{ soft: !each.alive }" data-test="machine">
              <td>{{ each.name }}<template v-if="!each.alive">, gone</template></td>
              <td class="number">{{ each.cores }}</td>
              <td class="number">{{ memory(each.memory) }}</td>
              <td class="number">{{ each.accelerators || "none" }}</td>
              <td>
                <template v-if="each.working.length"
                  >{{ count(each.working.length, "worker") }} of {{ [...new Set(each.working)].join(", ") }}</template
                >
                <span v-else class="soft">nothing</span>
              </td>
            </tr>
          </tbody>
        </table>
        <p v-if="address === 'local'" class="soft">
          A cluster of this machine alone: it is started for each work and ends with it.
        </p>
      </template>
      <template #footer><el-button @click="shown = false">Close</el-button></template>
    </el-dialog>
  </div>
</template>

<style scoped>
.work-on {
  display: flex;
  gap: 12px;
  align-items: center;
}
</style>
