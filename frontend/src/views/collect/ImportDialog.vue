<script setup lang="ts">
/** Labels from a COCO JSON file: first a look at what would happen, then taken over. */
import { ref, watch } from "vue";

import { type Preview, sendFiles } from "@/api/client";
import { count } from "@/parts/format";
import { complain, say } from "@/state/notes";
import { useProject } from "@/state/project";

const shown = defineModel<boolean>({ required: true });
const emit = defineEmits<{ changed: [] }>();
const store = useProject();
const file = ref<File | null>(null);
const preview = ref<Preview | null>(null);
const failed = ref("");
const busy = ref(false);

watch(shown, () => {
  file.value = null;
  preview.value = null;
  failed.value = "";
});

async function look(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement;
  file.value = input.files?.[0] ?? null;
  input.value = "";
  if (!file.value) return;
  preview.value = null;
  failed.value = "";
  busy.value = true;
  try {
    preview.value = await sendFiles<Preview>(`/api/v1/projects/${store.id}/annotations/preview`, [file.value]);
  } catch (error) {
    failed.value = (error as Error).message;
  } finally {
    busy.value = false;
  }
}

async function takeOver(): Promise<void> {
  busy.value = true;
  try {
    const done = await sendFiles<Preview>(`/api/v1/projects/${store.id}/annotations`, [file.value!]);
    say(`${count(done.boxes, "box", "boxes")} taken over on ${count(done.pictures, "picture")}`);
    await store.loadClasses();
    shown.value = false;
    emit("changed");
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <el-dialog v-model="shown" title="Import labels" width="560">
    <div class="body" data-test="import-dialog">
      <p class="soft">
        Choose a COCO JSON file. Its pictures are matched by name with those that are here; pictures that have labels
        stay as they are.
      </p>
      <input type="file" accept=".json,application/json" aria-label="COCO JSON file" data-test="import-file" @change="look" />
      <p v-if="busy" class="soft">Reading {{ file?.name }}</p>
      <p v-if="failed" class="notice bad">{{ failed }}</p>
      <template v-if="preview">
        <p>
          <b>{{ count(preview.boxes, "box", "boxes") }}</b> for <b>{{ count(preview.pictures, "unlabelled picture") }}</b>
          <template v-if="preview.new_classes.length">; new classes: {{ preview.new_classes.join(", ") }}</template>
        </p>
        <p v-if="preview.kept.length" class="soft">{{ count(preview.kept.length, "picture") }} labelled already, left as they are</p>
        <div v-if="preview.problems.length" class="notice bad">
          {{ count(preview.problems.length, "entry", "entries") }} would be left out:
          <ul>
            <li v-for="each in preview.problems.slice(0, 100)" :key="each">{{ each }}</li>
          </ul>
        </div>
      </template>
    </div>
    <template #footer>
      <el-button @click="shown = false">Cancel</el-button>
      <el-button type="primary" :disabled="!preview?.pictures || busy" data-test="import-now" @click="takeOver">
        {{ preview?.problems.length ? "Import the rest" : "Import" }}
      </el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.body { display: grid; gap: 12px; }
ul { max-height: 180px; overflow: auto; margin: 6px 0 0; padding-left: 18px; font-size: 13px; }
</style>
