<script setup lang="ts">
/** Labels out: choose a format, see what it cannot hold, download. */
import { computed, ref, watch } from "vue";

import { api, fetchFile, type Format, type Job, take } from "@/api/client";
import { count } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";

const shown = defineModel<boolean>({ required: true });
const store = useProject();
const live = useLiveJob();
const formats = ref<Format[]>([]);
const format = ref<"coco" | "voc" | "centre-text" | "csv" | "json-lines">("coco");
const kind = ref<"corners" | "corner and size" | "bracketed">("corners");
const loss = ref<{ pictures: number; boxes: number; lost: string[] } | null>(null);
const kinds = [
  { value: "corners", label: "x1, y1, x2, y2" },
  { value: "corner and size", label: "x, y, width, height" },
  { value: "bracketed", label: "[x, y, width, height] in one column" },
];
const chosen = computed(() => formats.value.find((each) => each.key === format.value));
const writing = ref<Job | null>(null);
const job = computed(() => (writing.value ? live(writing.value) : null));

/** The file is written in the background and then fetched. */
async function write(): Promise<void> {
  try {
    const body = { format: format.value, kind: kind.value };
    const starting = take(
      api.POST("/api/v1/projects/{project_id}/exports", { params: { path: { project_id: store.id } }, body }),
    );
    const { job: made } = await store.outcomeOf("export_labels", starting, (started) => (writing.value = started));
    fetchFile(`/api/v1/jobs/${made.id}/file`);
    shown.value = false;
  } catch (error) {
    complain(error);
  } finally {
    writing.value = null;
  }
}

watch([shown, format], async () => {
  if (!shown.value) return;
  try {
    loss.value = null;
    if (!formats.value.length) formats.value = (await take(api.GET("/api/v1/formats"))).formats;
    const query = { format: format.value };
    loss.value = await take(
      api.GET("/api/v1/projects/{project_id}/loss", { params: { path: { project_id: store.id }, query } }),
    );
  } catch (error) {
    complain(error);
  }
});
</script>

<template>
  <el-dialog v-model="shown" title="Export labels" width="560">
    <div class="body" data-test="export-dialog">
      <el-radio-group v-model="format" class="formats">
        <el-radio v-for="each in formats" :key="each.key" :value="each.key" :data-test="`format-${each.key}`">
          {{ each.name }} <span class="soft">{{ each.example }}</span>
        </el-radio>
      </el-radio-group>
      <label v-if="format === 'csv'" class="line">
        Columns of the box
        <el-select v-model="kind" size="small" class="kind"
          ><el-option v-for="each in kinds" :key="each.value" :value="each.value" :label="each.label"
        /></el-select>
      </label>
      <template v-if="loss">
        <p>{{ count(loss.boxes, "box", "boxes") }} on {{ count(loss.pictures, "labelled picture") }}</p>
        <div v-if="loss.lost.length" class="notice" data-test="lost">
          {{ chosen?.name }} does not hold all of it:
          <ul>
            <li v-for="each in loss.lost" :key="each">{{ each }}</li>
          </ul>
        </div>
        <p v-else class="good">{{ chosen?.name }} holds all of it.</p>
      </template>
    </div>
    <template #footer>
      <el-button @click="shown = false">Cancel</el-button>
      <JobState v-if="job" :job="job" />
      <el-button type="primary" data-test="export-now" :disabled="!loss?.pictures || Boolean(job)" @click="write"
        >Export</el-button
      >
    </template>
  </el-dialog>
</template>

<style scoped>
.body {
  display: grid;
  gap: 12px;
}
.formats {
  display: grid;
  justify-items: start;
  gap: 2px;
}
.line {
  display: flex;
  gap: 12px;
  align-items: center;
}
.kind {
  width: 250px;
}
ul {
  margin: 4px 0 0;
  padding-left: 18px;
}
.job-state {
  margin: 0 12px;
}
</style>
