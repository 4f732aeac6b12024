<script setup lang="ts">
/** Takes dropped or chosen files, sends them one after the other, and says what became of each. */
import { computed, ref } from "vue";

import { api, type FileOutcome, sendFiles, take } from "@/api/client";
import { count } from "@/parts/format";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";

const emit = defineEmits<{ added: [] }>();
const store = useProject();

const over = ref(false);
const shown = ref(false);
const sending = ref("");
const done = ref(0);
const total = ref(0);
const share = ref(0);
const outcomes = ref<FileOutcome[]>([]);
const rate = ref(2);
const input = ref<HTMLInputElement>();
let stopped = false;

const clips = computed(() => outcomes.value.filter((each) => each.outcome === "clip"));
const added = computed(() => outcomes.value.filter((each) => each.outcome === "added").length);
const known = computed(() => outcomes.value.filter((each) => each.outcome === "already there").length);
const refused = computed(() => outcomes.value.filter((each) => each.outcome === "refused"));

function ask(): void {
  input.value?.click();
}
defineExpose({ ask });

async function send(files: File[]): Promise<void> {
  if (!files.length || sending.value) return;
  stopped = false;
  shown.value = true;
  outcomes.value = [];
  [done.value, total.value, share.value] = [0, files.length, 0];
  for (const file of files) {
    if (stopped) break;
    sending.value = file.name;
    try {
      const path = `/api/v1/projects/${store.id}/media`;
      const reply = await sendFiles<{ files: FileOutcome[] }>(path, [file], {}, (part) => (share.value = part));
      outcomes.value.push(...reply.files);
    } catch (error) {
      outcomes.value.push({ name: file.name, outcome: "refused", message: (error as Error).message, picture_id: null, clip_id: null });
    }
    done.value += 1;
    share.value = 0;
  }
  sending.value = "";
  emit("added");
}

async function dropped(event: DragEvent): Promise<void> {
  over.value = false;
  const items = [...(event.dataTransfer?.items ?? [])];
  const entries = items.map((item) => item.webkitGetAsEntry()).filter((entry) => entry !== null);
  const files = entries.length ? (await Promise.all(entries.map(filesOf))).flat() : [...(event.dataTransfer?.files ?? [])];
  await send(files);
}

/** All files of a dropped folder, however deep. */
async function filesOf(entry: FileSystemEntry): Promise<File[]> {
  if (entry.isFile) return [await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject))];
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const all: FileSystemEntry[] = [];
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject));
    if (!some.length) break;
    all.push(...some);
  }
  return (await Promise.all(all.map(filesOf))).flat();
}

async function sample(): Promise<void> {
  try {
    for (const clip of clips.value) {
      await take(
        api.POST("/api/v1/clips/{clip_id}/frames", {
          params: { path: { clip_id: clip.clip_id! } },
          body: { per_second: rate.value },
        }),
      );
    }
    shown.value = false;
  } catch (error) {
    complain(error);
  }
}

function picked(): void {
  const files = [...(input.value?.files ?? [])];
  input.value!.value = "";
  void send(files);
}
</script>

<template>
  <div @dragover.prevent="over = true" @dragleave.self="over = false" @drop.prevent="dropped">
    <slot />
    <div v-if="over" class="veil"><h2>Drop pictures, clips or folders</h2></div>
    <input
      ref="input"
      type="file"
      multiple
      hidden
      data-test="file-input"
      accept=".jpg,.jpeg,.png,.webp,.bmp,.tif,.tiff,.mp4,.mov,.avi,.mkv,.webm"
      @change="picked"
    />
    <el-dialog v-model="shown" title="Adding files" width="560" :close-on-click-modal="!sending">
      <div data-test="upload">
        <template v-if="sending">
          <p>{{ sending }} <span class="soft">({{ done + 1 }} of {{ total }})</span></p>
          <el-progress :percentage="Math.floor((100 * (done + share)) / total)" :stroke-width="6" />
          <p><el-button size="small" @click="stopped = true">Stop after this file</el-button></p>
        </template>
        <p v-else>
          {{ count(added, "picture") }} added<template v-if="known">, {{ known }} already there</template
          ><template v-if="refused.length">, {{ refused.length }} refused</template>
        </p>
        <ul v-if="refused.length" class="refused">
          <li v-for="each in refused" :key="each.name">{{ each.message }}</li>
        </ul>
        <form novalidate v-if="clips.length && !sending" class="clips" @submit.prevent="sample">
          <p>{{ clips.map((each) => each.name).join(", ") }}: take frames into the project?</p>
          <label>Frames a second <el-input-number v-model="rate" :min="0.1" :max="60" :step="0.5" size="small" /></label>
          <el-button type="primary" native-type="submit" data-test="sample">Take frames</el-button>
          <el-button @click="shown = false">Only keep the clip</el-button>
        </form>
      </div>
    </el-dialog>
  </div>
</template>

<style scoped>
.veil { position: fixed; inset: 0; display: grid; place-items: center; background: rgba(227, 235, 241, 0.93); border: 3px dashed var(--leg); z-index: 3000; pointer-events: none; }
.refused { max-height: 200px; overflow: auto; padding-left: 18px; color: var(--brick); }
.clips { display: flex; flex-wrap: wrap; gap: 10px; align-items: center; border-top: 1px solid var(--rule); padding-top: 12px; margin-top: 12px; }
.clips p { width: 100%; }
</style>
