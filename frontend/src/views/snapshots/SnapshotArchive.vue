<script setup lang="ts">
/** A snapshot as an archive in any format, with its pictures or without. */
import { ref, watch } from "vue";

import { api, type Format, type Snapshot, take } from "@/api/client";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";

const shown = defineModel<boolean>({ required: true });
const props = defineProps<{ snapshot: Snapshot }>();
const store = useProject();
const formats = ref<Format[]>([]);
const format = ref<"coco" | "voc" | "centre-text" | "csv" | "json-lines">("coco");
const withPictures = ref(true);
const busy = ref(false);
const ready = ref(0);

watch(shown, async (open) => {
  ready.value = 0;
  if (!open || formats.value.length) return;
  try {
    formats.value = (await take(api.GET("/api/v1/formats"))).formats;
  } catch (error) {
    complain(error);
  }
});
watch([format, withPictures], () => (ready.value = 0));

async function make(): Promise<void> {
  busy.value = true;
  try {
    const starting = take(
      api.POST("/api/v1/snapshots/{snapshot_id}/archive", {
        params: { path: { snapshot_id: props.snapshot.id } },
        body: { format: format.value, with_pictures: withPictures.value },
      }),
    );
    ready.value = (await store.outcomeOf("archive_snapshot", starting)).job.id;
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <el-dialog v-model="shown" title="Export the snapshot" width="520">
    <div class="body" data-test="archive-dialog">
      <el-radio-group v-model="format" class="formats">
        <el-radio v-for="each in formats" :key="each.key" :value="each.key">{{ each.name }}</el-radio>
      </el-radio-group>
      <el-checkbox v-model="withPictures">With the pictures</el-checkbox>
      <p class="soft">
        An archive with the labels and the part of each picture. Dropped on an empty project it brings everything back.
      </p>
    </div>
    <template #footer>
      <el-button v-if="!ready" type="primary" :loading="busy" data-test="archive-now" @click="make"
        >Make the archive</el-button
      >
      <a v-else :href="`/api/v1/jobs/${ready}/file`" download data-test="archive-download"
        ><el-button type="primary" tag="span">Download</el-button></a
      >
    </template>
  </el-dialog>
</template>

<style scoped>
.body {
  display: grid;
  gap: 10px;
}
.formats {
  display: grid;
  justify-items: start;
}
</style>
