<script setup lang="ts">
/** A new detection run: which model, over what, what counts, and what comes out. */
import { computed, onMounted, reactive, ref, watch } from "vue";
import { useRouter } from "vue-router";

import {
  type Address,
  api,
  type Clip,
  type Detection,
  type Ensemble,
  pictureUrl,
  type Run,
  sendFiles,
  take,
} from "@/api/client";
import { count } from "@/parts/format";
import ServerFolders from "@/parts/choices/ServerFolders.vue";
import WhiteSelect from "@/parts/choices/WhiteSelect.vue";
import { useKeys } from "@/state/keys";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import WorkOn from "@/views/models/WorkOn.vue";
import ModelSelect from "@/views/use/ModelSelect.vue";
import { type Copies, freshOrder } from "@/views/use/form/order";
import RegionDialog from "@/views/use/form/RegionDialog.vue";
import WhatCounts from "@/views/use/form/WhatCounts.vue";
import { answering, numbersOf } from "@/views/use/models";

const props = defineProps<{ runs: Run[]; clips: Clip[]; ensembles: Ensemble[]; addresses: Address[] }>();
const store = useProject();
const router = useRouter();

const COPIES: Record<Copies, string> = {
  boxes: "Boxes drawn in",
  blurred: "What was found blurred",
  pixelated: "What was found pixelated",
  filled: "What was found filled with grey",
  none: "No copies",
};

const model = ref(props.runs[0] ? `run ${props.runs[0].id}` : "");
const order = reactive(freshOrder());
const source = ref("");
const files = ref<File[]>([]);
const folder = ref("");
const browsing = ref(false);
const drawing = ref(false);
const first = ref("");
const sent = ref<number | null>(null);
const over = ref(false);
const fileInput = ref<HTMLInputElement>();
const folderInput = ref<HTMLInputElement>();

const unlabelled = computed(() => {
  const figures = store.project?.stages;
  return figures ? figures.pictures - figures.labelled : 0;
});
source.value = props.clips[0] ? `clip ${props.clips[0].id}` : unlabelled.value ? "unlabelled" : "";

/** The run that is chosen, or the one that answers under the address that is. */
const run = computed(() => {
  const address = props.addresses.find((each) => `address ${each.id}` === model.value);
  const number = address ? answering(address)?.run_id : numbersOf(model.value).run_id;
  return props.runs.find((each) => each.id === number);
});
/** Whether there may be pictures of more than 8 bits. */
const deep = ref(0);
const mayBeDeep = computed(
  () =>
    source.value === "folder" ||
    (source.value === "files" && files.value.some((file) => /\.(png|tiff?)$/i.test(file.name))) ||
    (["all", "unlabelled"].includes(source.value) && deep.value > 0),
);
onMounted(async () => {
  try {
    const params = { path: { project_id: store.id } };
    deep.value = (await take(api.GET("/api/v1/projects/{project_id}/white", { params }))).pictures;
  } catch (error) {
    complain(error);
  }
});
/** Each model begins with the minimum scores that its own validation, or a person, found best. */
watch(run, () => (order.minimum_score = null));
const ready = computed(
  () =>
    Boolean(model.value && source.value) &&
    (source.value !== "files" || files.value.length > 0) &&
    (source.value !== "folder" || folder.value !== ""),
);
const KNOWN = /\.(jpe?g|png|webp|bmp|tiff?|mp4|mov|avi|mkv|webm)$/i;

function use(all: File[]): void {
  files.value = all.filter((file) => KNOWN.test(file.name));
  if (all.length && !files.value.length) complain(new Error("None of these files is a picture or a clip"));
  if (files.value.length) source.value = "files";
}
function takeFiles(event: Event): void {
  const input = event.target as HTMLInputElement;
  use([...(input.files ?? [])]);
  input.value = "";
}
function drop(event: DragEvent): void {
  over.value = false;
  use([...(event.dataTransfer?.files ?? [])]);
}
function takeFolder(path: string): void {
  folder.value = path;
  source.value = "folder";
}

/** The first picture of what is chosen, to draw on; empty where the page cannot have it. */
async function drawRegion(): Promise<void> {
  if (first.value.startsWith("blob:")) URL.revokeObjectURL(first.value);
  first.value = "";
  if (source.value.startsWith("clip ")) first.value = `/api/v1/clips/${source.value.slice(5)}/frames/0`;
  else if (source.value === "files") {
    const picture = files.value.find((each) => each.type.startsWith("image/"));
    if (picture) first.value = URL.createObjectURL(picture);
  } else if (source.value === "all" || source.value === "unlabelled") {
    const query = { limit: 1, ...(source.value === "unlabelled" ? { state: "unlabelled" as const } : {}) };
    const params = { path: { project_id: store.id }, query };
    const found = await take(api.GET("/api/v1/projects/{project_id}/pictures", { params }));
    const picture = found.pictures[0];
    if (picture) first.value = pictureUrl(picture);
  }
  drawing.value = true;
}

async function start(): Promise<void> {
  if (!ready.value || sent.value !== null) return;
  const common = {
    ...numbersOf(model.value),
    address_id: model.value.startsWith("address ") ? Number(model.value.slice(8)) : null,
    ...order,
  };
  try {
    let made: Detection;
    if (source.value === "files") {
      sent.value = 0;
      const fields = Object.fromEntries(
        Object.entries(common)
          .filter(([, value]) => value !== null)
          .map(([name, value]) => [name, typeof value === "object" ? JSON.stringify(value) : String(value)]),
      );
      made = await sendFiles<Detection>(
        "/api/v1/detections/upload",
        files.value,
        fields,
        (share) => (sent.value = share),
      );
    } else {
      const body = {
        ...common,
        clip_id: source.value.startsWith("clip ") ? Number(source.value.slice(5)) : null,
        server_folder: source.value === "folder" ? folder.value : null,
        pictures: source.value === "all" || source.value === "unlabelled",
        state: source.value === "unlabelled" ? ("unlabelled" as const) : null,
      };
      made = await take(api.POST("/api/v1/detections", { body }));
    }
    await router.push(`/project/${store.id}/use/${made.id}`);
  } catch (error) {
    complain(error);
  } finally {
    sent.value = null;
  }
}

useKeys([
  { keys: ["Ctrl+Enter"], label: "Start detection run", run: start },
  { keys: ["Shift+a"], label: "Add a folder", run: () => folderInput.value?.click() },
  { keys: ["a"], label: "Add pictures or clips", run: () => fileInput.value?.click() },
]);
</script>

<template>
  <form
    novalidate
    :class="{ over }"
    data-test="use-form"
    @submit.prevent="start"
    @dragover.prevent="over = true"
    @dragleave="over = false"
    @drop.prevent="drop">
    <h2>New detection run</h2>
    <label class="field"
      >Model
      <ModelSelect v-model="model" :runs="runs" :ensembles="ensembles" :addresses="addresses" label="Model" />
    </label>
    <fieldset>
      <legend>Run it over</legend>
      <el-radio-group v-model="source" class="sources">
        <el-radio v-for="clip in clips" :key="clip.id" :value="`clip ${clip.id}`">
          {{ clip.name }}
          <span class="soft">{{ clip.seconds.toFixed(1) }} s, {{ Math.round(clip.rate * clip.seconds) }} frames</span>
        </el-radio>
        <el-radio v-if="unlabelled" value="unlabelled"
          >{{ count(unlabelled, "unlabelled picture") }} of this project</el-radio
        >
        <el-radio v-if="store.project?.stages.pictures" value="all"
          >All {{ count(store.project.stages.pictures, "picture") }} of this project</el-radio
        >
        <el-radio value="files" :disabled="!files.length">
          {{
            files.length
              ? count(files.length, "file") + " from this computer"
              : "Files from this computer, or drop them"
          }}
        </el-radio>
        <el-radio v-if="folder" value="folder">{{ folder }} <span class="soft">with its folders</span></el-radio>
      </el-radio-group>
      <p class="pick">
        <el-button v-hint="'Add pictures or clips'" size="small" @click="fileInput?.click()"
          >Add pictures or clips</el-button
        >
        <el-button v-hint="'Add a folder'" size="small" @click="folderInput?.click()">Add a folder</el-button>
        <el-button size="small" data-test="use-server-folder" @click="browsing = true">Folder on the server</el-button>
      </p>
      <input ref="folderInput" type="file" webkitdirectory hidden aria-label="Folder" @change="takeFiles" />
      <input
        ref="fileInput"
        type="file"
        multiple
        hidden
        aria-label="Pictures or clips"
        data-test="use-files"
        @change="takeFiles" />
    </fieldset>
    <WhatCounts :order="order" :run="run" />
    <p class="where">
      <el-button size="small" :disabled="!source" data-test="draw-region" @click="drawRegion">Region</el-button>
      <span class="soft">{{
        order.region.length
          ? `Only what lies in a region of ${order.region.length} corners counts`
          : "Boxes count everywhere"
      }}</span>
    </p>
    <p v-if="mayBeDeep" class="where">
      <span>White beyond 8 bits</span>
      <WhiteSelect v-model="order.white" automatic="As files, model or pictures say" />
    </p>
    <fieldset>
      <legend>What comes out</legend>
      <p class="soft">Every box as JSON, CSV, COCO results and centre-text, and</p>
      <div class="pair">
        <el-select v-model="order.copies" size="small" aria-label="Copies" data-test="use-copies">
          <el-option v-for="(name, key) in COPIES" :key="key" :value="key" :label="name" />
        </el-select>
        <span>
          <el-checkbox v-model="order.beside" size="small" :disabled="order.copies === 'none'"
            >Original beside it</el-checkbox
          >
          <el-checkbox v-model="order.crops" size="small">Crop of every box</el-checkbox>
        </span>
      </div>
    </fieldset>
    <WorkOn v-model="order.on_cluster" />
    <el-progress v-if="sent !== null" :percentage="Math.floor(100 * sent)" aria-label="Sending files" />
    <el-button
      v-hint="'Start detection run'"
      type="primary"
      native-type="submit"
      size="large"
      :disabled="!ready || sent !== null"
      data-test="start-detection"
      >Start detection run</el-button
    >
    <RegionDialog v-model="drawing" v-model:region="order.region" :picture="first" />
    <ServerFolders v-model="browsing" looking @take="takeFolder" />
  </form>
</template>

<style scoped>
form {
  display: grid;
  gap: 13px;
  justify-items: stretch;
}
form.over {
  outline: 2px dashed var(--leg);
  outline-offset: 8px;
}
.field {
  display: grid;
  gap: 4px;
  font-weight: 600;
}
form :deep(fieldset) {
  border: 0;
  padding: 0;
  margin: 0;
  display: grid;
  gap: 4px;
}
form :deep(legend) {
  font-weight: 600;
  padding: 0;
  margin-bottom: 2px;
}
.sources {
  display: grid;
  max-height: 170px;
  overflow: auto;
}
.pick .el-button + .el-button {
  margin-left: 6px;
}
.where {
  display: flex;
  gap: 8px;
  align-items: center;
}
.pair {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 16px;
  align-items: end;
}
.pair > label {
  display: grid;
  gap: 2px;
}
</style>
