<script setup lang="ts">
/** What a run was trained with: its name and note, settings, labels, machine; and all of it as an archive. */
import { computed, ref } from "vue";

import { api, type Run, take } from "@/api/client";
import { count, day } from "@/parts/format";
import { complain, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";
import EightBits from "@/views/train/run/EightBits.vue";
import { settingName, settingValue } from "@/views/train/settingNames";

const props = defineProps<{ run: Run; models: string[] }>();
const emit = defineEmits<{ changed: [] }>();
const store = useProject();
const name = ref(props.run.name);
const note = ref(props.run.note);
const environment = computed(() => (props.run.facts.environment ?? {}) as Record<string, unknown>);
const NAMES: Record<string, string> = {
  python: "Python",
  torch: "PyTorch",
  numpy: "NumPy",
  system: "System",
  processor: "Processor",
  cores: "Cores",
  threads: "Threads",
  memory: "Memory",
  device: "Device",
  number_format: "Numbers",
  trained_share: "Weights trained",
};
function shown(key: string, value: unknown): string {
  if (key === "memory") return `${(Number(value) / 1e9).toFixed(1)} GB`;
  if (key === "trained_share") return `${(100 * Number(value)).toFixed(0)} %`;
  return String(value);
}

async function keep(): Promise<void> {
  const before = { name: props.run.name, note: props.run.note };
  if (before.name === name.value && before.note === note.value) return;
  try {
    await describe({ name: name.value, note: note.value });
    sayWithUndo("Name and note kept", async () => {
      await describe(before);
      name.value = before.name;
      note.value = before.note;
    });
  } catch (error) {
    complain(error);
    name.value = before.name;
  }
}
async function describe(body: { name: string; note: string }): Promise<void> {
  await take(api.PATCH("/api/v1/runs/{run_id}", { params: { path: { run_id: props.run.id } }, body }));
  emit("changed");
}
</script>

<template>
  <div class="columns">
    <section>
      <h2>Name and note</h2>
      <label
        >Name <el-input v-model="name" size="small" maxlength="200" aria-label="Name of the run" @change="keep"
      /></label>
      <label
        >Note
        <el-input
          v-model="note"
          type="textarea"
          :autosize="{ minRows: 2, maxRows: 8 }"
          maxlength="5000"
          aria-label="Note"
          data-test="run-note"
          @change="keep"
      /></label>
      <h2>Labels</h2>
      <p>
        Snapshot
        <router-link :to="`/project/${store.id}/collect/snapshots`">{{
          run.snapshot_name || run.snapshot_hash.slice(0, 12)
        }}</router-link>, {{ count(run.snapshot_pictures, "picture") }},
        {{ count(run.snapshot_boxes, "box", "boxes") }}.
      </p>
      <p class="soft small">
        Validation pictures and truths are named {{ run.held_out || "–" }}: figures compare among runs where this is the
        same.
      </p>
      <p>
        <a :href="`/api/v1/runs/${run.id}/archive`" data-test="run-archive"
          >Download settings, figures, log and models</a
        >
      </p>
      <p v-if="models.length" class="models">
        Models:
        <a v-for="each in models" :key="each" :href="`/api/v1/runs/${run.id}/model/${each}`" data-test="kept-model">{{
          each.replace(/^epoch-0*/, "epoch ")
        }}</a>
      </p>
      <EightBits :run="run" @changed="emit('changed')" />
    </section>
    <section>
      <h2>Settings</h2>
      <table class="figures">
        <tbody>
          <tr v-for="(value, key) in run.settings" :key="key">
            <td>{{ settingName(String(key)) }}</td>
            <td>{{ settingValue(String(key), value) }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <section>
      <h2>Machine</h2>
      <p v-if="!Object.keys(environment).length" class="soft">Written down when the run begins.</p>
      <table class="figures" data-test="environment">
        <tbody>
          <tr v-for="(value, key) in environment" :key="key">
            <td>{{ NAMES[key] ?? key }}</td>
            <td>{{ shown(String(key), value) }}</td>
          </tr>
          <tr>
            <td>Started</td>
            <td>{{ day(run.created_at) }}</td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: 1fr 1fr 1fr;
  gap: 26px;
  align-items: start;
}
section {
  display: grid;
  gap: 8px;
  min-width: 0;
}
label {
  display: grid;
  gap: 3px;
  font-weight: 600;
}
td {
  padding: 3px 8px 3px 0 !important;
  overflow-wrap: anywhere;
}
.small {
  font-size: 13px;
}
.models {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 12px;
}
</style>
