<script setup lang="ts">
/** Takes dropped or chosen files, sends them one after the other, and says what became of each. */
import { computed, ref, shallowRef, watch } from "vue";
import { useRouter } from "vue-router";

import { api, type Clip, type FileOutcome, type Job, sendFiles, take } from "@/api/client";
import { count } from "@/parts/format";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import ServerFolders from "@/parts/choices/ServerFolders.vue";
import ClipChoice from "@/views/clips/ClipChoice.vue";
import { LABEL_SUFFIXES, mayHoldLabels } from "@/views/exchange/labelFiles";

/** Labels that came with pictures: of an archive that was taken in, by the job that did, or as files. */
const emit = defineEmits<{ added: []; labels: [from: number | File[]] }>();
const store = useProject();
const router = useRouter();

const over = ref(false);
const shown = ref(false);
const sending = ref("");
const unpacking = ref("");
const done = ref(0);
const total = ref(0);
const share = ref(0);
const outcomes = ref<FileOutcome[]>([]);
const more = ref({ added: 0, labels: 0, job: 0 });
const labelFiles = shallowRef<File[]>([]);
const browsing = ref(false);
const input = ref<HTMLInputElement>();
const wholeFolder = ref<HTMLInputElement>();
let stopped = false;

const clips = computed(() => outcomes.value.filter((each) => each.outcome === "clip"));
const came = computed(() => outcomes.value.filter((each) => each.outcome === "added"));
/** Of an archive or folder not every added file is named, but all are counted. */
const added = computed(() => sent.value + more.value.added);
const sent = ref(0);
const cameIn = computed(() =>
  added.value || !clips.value.length
    ? `${count(added.value, "picture")} added${clips.value.length ? `, ${count(clips.value.length, "clip")}` : ""}`
    : `${count(clips.value.length, "clip")} added`,
);
const remarks = computed(() => came.value.filter((each) => each.message));
const known = computed(() => outcomes.value.filter((each) => each.outcome === "already there"));
const refused = computed(() => outcomes.value.filter((each) => each.outcome === "refused"));

function ask(): void {
  begin();
  shown.value = true;
}
defineExpose({ ask });

function begin(): void {
  stopped = false;
  outcomes.value = labelFiles.value = [];
  more.value = { added: 0, labels: 0, job: 0 };
  [done.value, total.value, share.value, sent.value] = [0, 0, 0, 0];
}

async function send(all: File[]): Promise<void> {
  if (!all.length || sending.value) return;
  const labels = all.filter(mayHoldLabels);
  const files = all.filter((file) => !mayHoldLabels(file));
  begin();
  if (!files.length) {
    emit("labels", labels);
    shown.value = false;
    return;
  }
  labelFiles.value = labels;
  shown.value = true;
  total.value = files.length;
  for (const file of files) {
    if (stopped) break;
    sending.value = file.name;
    try {
      const path = `/api/v1/projects/${store.id}/media`;
      const reply = await sendFiles<{ files: FileOutcome[] }>(path, [file], {}, (part) => (share.value = part));
      for (const outcome of reply.files) {
        if (outcome.outcome === "archive") await follow(outcome.job_id!, file.name);
        else {
          outcomes.value.push(outcome);
          sent.value += outcome.outcome === "added" ? 1 : 0;
        }
      }
    } catch (error) {
      const message = wordsOf(error);
      outcomes.value.push({
        name: file.name,
        outcome: "refused",
        message,
        picture_id: null,
        clip_id: null,
        job_id: null,
      });
    }
    done.value += 1;
    share.value = 0;
  }
  sending.value = "";
  emit("added");
}

/** Wait for a job that takes in many files, and add what it says to the outcomes. */
async function follow(jobId: number, name: string): Promise<void> {
  unpacking.value = name;
  const job: Job = await store.ended(jobId);
  unpacking.value = "";
  if (job.state !== "done") {
    const message = `${name}: ${job.message || job.state}`;
    outcomes.value.push({ name, outcome: "refused", message, picture_id: null, clip_id: null, job_id: null });
    return;
  }
  const taken = job.outcome.take_archive ?? job.outcome.take_folder;
  if (!taken) return;
  more.value.added += taken.added;
  outcomes.value.push(...taken.files);
  if (taken.labels) more.value = { ...more.value, labels: taken.labels, job: jobId };
}

/** One question after the other, never one upon the other. */
function browse(): void {
  shown.value = false;
  browsing.value = true;
}

async function takeFolder(path: string, copied: boolean): Promise<void> {
  begin();
  shown.value = true;
  try {
    const started = await take(
      api.POST("/api/v1/projects/{project_id}/folders", {
        params: { path: { project_id: store.id } },
        body: { path, copied },
      }),
    );
    await follow(started.job.id, path);
    emit("added");
  } catch (error) {
    complain(error);
  }
}

async function dropped(event: DragEvent): Promise<void> {
  over.value = false;
  const items = [...(event.dataTransfer?.items ?? [])];
  const entries = items.map((item) => item.webkitGetAsEntry()).filter((entry) => entry !== null);
  const files = entries.length
    ? (await Promise.all(entries.map((entry) => filesOf(entry, "")))).flat()
    : [...(event.dataTransfer?.files ?? [])];
  await send(files);
}

/** All files of a dropped folder, however deep, under the names of their folders. */
async function filesOf(entry: FileSystemEntry, place: string): Promise<File[]> {
  if (entry.isFile) {
    const file = await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject));
    return [place ? new File([file], `${place}${file.name}`, { type: file.type }) : file];
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const all: FileSystemEntry[] = [];
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject));
    if (!some.length) break;
    all.push(...some);
  }
  return (await Promise.all(all.map((each) => filesOf(each, `${place}${entry.name}/`)))).flat();
}

/** The first picture that came in just now. */
const first = computed(() => came.value.find((each) => each.picture_id)?.picture_id ?? null);

function labelPicture(id: number): void {
  void router.push(`/project/${store.id}/collect/${id}`);
}

function labelClip(id: number): void {
  void router.push(`/project/${store.id}/collect/clips/${id}`);
}

/** The clip of which frames are to be taken. */
const taking = ref(0);
const clipTaken = ref<Clip | null>(null);
const takes = computed({ get: () => taking.value > 0, set: () => (taking.value = 0) });
watch(taking, async (id) => {
  clipTaken.value = null;
  try {
    if (id) clipTaken.value = await take(api.GET("/api/v1/clips/{clip_id}", { params: { path: { clip_id: id } } }));
  } catch (error) {
    complain(error);
  }
});

function takeFiles(event: Event): void {
  const field = event.target as HTMLInputElement;
  const files = [...(field.files ?? [])];
  field.value = "";
  void send(files);
}

function readLabels(): void {
  shown.value = false;
  emit("labels", labelFiles.value.length ? labelFiles.value : more.value.job);
}

const labelsCame = computed(() => labelFiles.value.length || more.value.labels);
const idle = computed(() => !sending.value && !unpacking.value);
</script>

<template>
  <div @dragover.prevent="over = true" @dragleave.self="over = false" @drop.prevent="dropped">
    <slot />
    <div v-if="over" class="veil"><h2>Drop pictures, clips, folders or archives</h2></div>
    <el-dialog v-model="shown" title="Add pictures" width="600" :close-on-click-modal="idle">
      <div class="body" data-test="upload">
        <div v-if="idle" class="ways">
          <el-button data-test="choose-files" @click="input?.click()">Files or archives</el-button>
          <el-button @click="wholeFolder?.click()">A folder</el-button>
          <el-button data-test="server-folder" @click="browse">A folder on the server</el-button>
        </div>
        <input
          ref="input"
          type="file"
          multiple
          hidden
          data-test="file-input"
          :accept="`.jpg,.jpeg,.png,.webp,.bmp,.tif,.tiff,.mp4,.mov,.avi,.mkv,.webm,.zip,.tar,.gz,.tgz,${LABEL_SUFFIXES}`"
          @change="takeFiles" />
        <input ref="wholeFolder" type="file" webkitdirectory hidden @change="takeFiles" />
        <template v-if="sending">
          <p>
            {{ unpacking ? `Unpacking ${unpacking}` : sending }}
            <span class="soft">({{ done + 1 }} of {{ total }})</span>
          </p>
          <el-progress :percentage="Math.floor((100 * (done + share)) / Math.max(1, total))" :stroke-width="6" />
          <p><el-button size="small" @click="stopped = true">Stop after this file</el-button></p>
        </template>
        <p v-else-if="unpacking" role="status">Taking pictures from {{ unpacking }}. This goes on if you leave.</p>
        <p v-else-if="outcomes.length || added" data-test="added">
          {{ cameIn }}<template v-if="known.length">, {{ known.length }} already there</template
          ><template v-if="refused.length">, {{ refused.length }} refused</template>
        </p>
        <ul v-if="refused.length" class="refused" data-test="refused">
          <li v-for="(each, index) in refused" :key="index">{{ each.message }}</li>
        </ul>
        <ul v-if="remarks.length" data-test="remarks">
          <li v-for="(each, index) in remarks" :key="index">{{ each.message }}</li>
        </ul>
        <details v-if="came.length && idle">
          <summary>Added</summary>
          <ul>
            <li v-for="(each, index) in came" :key="index">{{ each.name }}</li>
          </ul>
        </details>
        <details v-if="known.length && idle">
          <summary>Already there</summary>
          <ul>
            <li v-for="(each, index) in known" :key="index">{{ each.name }}: {{ each.message }}</li>
          </ul>
        </details>
        <p v-if="labelsCame && idle" class="notice">
          {{ count(labelsCame, "annotation file") }} came with {{ added === 1 ? "it" : "them" }}.
          <el-button link type="primary" data-test="read-archive-labels" @click="readLabels"
            >Look at the labels</el-button
          >
        </p>
        <section v-if="clips.length && idle" class="clips" data-test="clips-came">
          <div v-for="each in clips" :key="each.clip_id!" class="clip">
            <b>{{ each.name }}</b>
            <el-button type="primary" data-test="label-clip" @click="labelClip(each.clip_id!)">Label objects</el-button>
            <el-button data-test="take-frames" @click="taking = each.clip_id!">Choose frames</el-button>
          </div>
          <p class="soft">
            Label the objects that move through a clip, or take it apart into single pictures: how many frames, or how
            different, and from where to where. You can do the other later.
          </p>
        </section>
      </div>
      <template v-if="idle && first && !labelsCame" #footer>
        <el-button @click="shown = false">Close</el-button>
        <el-button type="primary" data-test="label-added" @click="labelPicture(first)">Label the first</el-button>
      </template>
    </el-dialog>
    <ClipChoice
      v-if="clipTaken"
      v-model="takes"
      :clip="clipTaken"
      :objects="0"
      as="pictures"
      @started="shown = false" />
    <ServerFolders v-model="browsing" @take="takeFolder" />
  </div>
</template>

<style scoped>
.veil {
  position: fixed;
  inset: 0;
  display: grid;
  place-items: center;
  background: rgba(227, 235, 241, 0.93);
  border: 3px dashed var(--leg);
  z-index: 3000;
  pointer-events: none;
}
.body {
  display: grid;
  gap: 10px;
}
.ways {
  display: flex;
  gap: 8px;
}
.ways :deep(.el-button) {
  margin: 0;
}
ul {
  max-height: 200px;
  overflow: auto;
  padding-left: 18px;
  margin: 0;
}
.refused {
  color: var(--brick);
}
summary {
  cursor: pointer;
}
.clips {
  display: grid;
  gap: 8px;
  border-top: 1px solid var(--rule);
  padding-top: 12px;
}
.clip {
  display: flex;
  align-items: center;
  gap: 10px;
}
.clip b {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
}
.clip :deep(.el-button) {
  margin: 0;
}
</style>
