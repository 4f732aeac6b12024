<script setup lang="ts">
/** The objects of a clip go into a file, or come out of one. */
import { ref, watch } from "vue";

import { api, type ClipDetail, type Format, type Job, sendFiles, take } from "@/api/client";
import { count, whole } from "@/parts/format";
import { complain, say, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";

const shown = defineModel<boolean>({ required: true });
const props = defineProps<{ clip: ClipDetail; before: () => Promise<unknown> }>();
const emit = defineEmits<{ taken: [] }>();
const store = useProject();

const formats = ref<Format[]>([]);
const format = ref<"coco" | "csv" | "json-lines" | "voc" | "centre-text">("coco");
const every = ref(1);
const busy = ref(false);
const lost = ref<string[]>([]);
const field = ref<HTMLInputElement>();
/** What has to be answered before these files are taken. */
const asked = ref<{ question: string; files: File[] } | null>(null);

watch(shown, async (open) => {
  if (!open || formats.value.length) return;
  try {
    formats.value = (await take(api.GET("/api/v1/formats"))).formats;
  } catch (error) {
    complain(error);
  }
});

async function write(): Promise<void> {
  busy.value = true;
  try {
    await props.before();
    const params = { path: { clip_id: props.clip.id } };
    const body = { format: format.value, every: every.value };
    const asking = take(api.POST("/api/v1/clips/{clip_id}/exports", { params, body }));
    const { outcome, job } = await store.outcomeOf("write_tracks", asking);
    lost.value = outcome.lost ?? [];
    say(`${whole(outcome.boxes)} boxes on ${count(outcome.pictures, "frame")} in ${outcome.file}`);
    window.location.assign(`/api/v1/jobs/${job.id}/file`);
    if (!lost.value.length) shown.value = false;
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}

async function read(event: Event): Promise<void> {
  const chosen = event.target as HTMLInputElement;
  const files = [...(chosen.files ?? [])];
  chosen.value = "";
  if (files.length) await send(files);
}

async function send(files: File[], corners: boolean | null = null): Promise<void> {
  busy.value = true;
  asked.value = null;
  try {
    const said = corners === null ? "" : `?corners=${corners}`;
    const sending = sendFiles<{ job: Job }>(`/api/v1/clips/${props.clip.id}/taken${said}`, files);
    const { outcome } = await store.outcomeOf("take_tracks", sending);
    if (outcome.asks) {
      asked.value = { question: outcome.asks, files };
      return;
    }
    const left = outcome.left_out.length ? `; left out: ${outcome.left_out[0]}` : "";
    const noted = outcome.notes?.length ? `. ${outcome.notes[0]}` : "";
    const words = `${count(outcome.tracks, "object")} with ${count(outcome.boxes, "box", "boxes")} taken${left}${noted}`;
    const change = outcome.change_id;
    if (change) sayWithUndo(words, () => store.undoChange(change).then(() => emit("taken")));
    else say(words);
    await store.loadClasses();
    emit("taken");
    shown.value = false;
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <el-dialog v-model="shown" :title="`Objects of ${clip.name}`" width="520">
    <div class="body" data-test="export-form">
      <label
        >Format
        <el-select v-model="format" data-test="track-format">
          <el-option v-for="each in formats" :key="each.key" :value="each.key" :label="each.name" /> </el-select
      ></label>
      <label
        >Every
        <el-input-number v-model="every" :min="1" :max="clip.times.length" size="small" />
        {{ every === 1 ? "frame: all of them" : "frames one" }}</label
      >
      <p v-if="format === 'voc' || format === 'centre-text'" class="soft">
        This format has no place for which boxes are one object: it gets one box a frame.
      </p>
      <p v-for="each in lost" :key="each" class="bad">Not in the file: {{ each }}</p>
      <p class="soft">Frames are named after the clip and their number, as the pictures that are taken from it.</p>
      <p class="rule">
        <el-button link type="primary" data-test="take-tracks" @click="field?.click()"
          >Take objects from a file</el-button
        >
        <span class="soft">whose boxes have track numbers: COCO JSON, JSON Lines or CSV</span>
      </p>
      <div v-if="asked" class="notice bad" role="alert" data-test="tracks-asked">
        <p>{{ asked.question }}</p>
        <el-button size="small" data-test="tracks-corners" @click="send(asked.files, true)">They are corners</el-button>
        <el-button size="small" data-test="tracks-sizes" @click="send(asked.files, false)"
          >They are corner and size</el-button
        >
      </div>
      <input
        ref="field"
        type="file"
        hidden
        accept=".json,.jsonl,.ndjson,.csv,.tsv"
        data-test="tracks-file"
        @change="read" />
    </div>
    <template #footer>
      <el-button @click="shown = false">Close</el-button>
      <el-button type="primary" :loading="busy" data-test="write-tracks" @click="write">Export</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.body {
  display: grid;
  gap: 10px;
}
.body :deep(.el-select) {
  width: 200px;
}
.rule {
  border-top: 1px solid var(--rule);
  padding-top: 10px;
}
</style>
