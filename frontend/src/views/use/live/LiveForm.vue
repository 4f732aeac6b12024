<script setup lang="ts">
/** A new camera or watched folder. */
import { computed, ref, watch } from "vue";

import { api, type Ensemble, type Run, take } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import FigureSlider from "@/parts/FigureSlider.vue";
import ServerFolders from "@/parts/choices/ServerFolders.vue";
import WhiteSelect from "@/parts/choices/WhiteSelect.vue";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import ModelSelect from "@/views/use/ModelSelect.vue";
import { THIS_COMPUTER } from "@/views/use/live/sending";
import { numbersOf, runOf, scoresOf, useWishedScore } from "@/views/use/models";

const props = defineProps<{ runs: Run[]; ensembles: Ensemble[] }>();
const emit = defineEmits<{ made: [id: number] }>();
const store = useProject();

const kind = ref<"camera" | "here" | "folder">("camera");
const name = ref("");
const address = ref("");
const watched = ref("");
const out = ref("");
const moves = ref(false);
const copies = ref(true);
const white = ref<number | null>(null);
const model = ref(props.runs[0] ? `run ${props.runs[0].id}` : "");
/** Of all classes; null where the model's own are taken. */
const wished = ref<number | null>(null);
const choosing = ref<"watched" | "out" | "">("");
const busy = ref(false);

const run = computed(() => runOf(model.value, props.runs));
watch(run, () => (wished.value = null));
const { score, ofModel } = useWishedScore(wished, () => run.value);
const source = computed(() =>
  kind.value === "here" ? THIS_COMPUTER : kind.value === "camera" ? address.value.trim() : watched.value,
);
const ready = computed(() => Boolean(model.value && source.value));
const browsing = computed({
  get: () => choosing.value !== "",
  set: (open) => {
    if (!open) choosing.value = "";
  },
});

function takeFolder(path: string): void {
  if (choosing.value === "out") out.value = path;
  else watched.value = path;
  choosing.value = "";
}
async function start(): Promise<void> {
  if (!ready.value || busy.value) return;
  busy.value = true;
  try {
    const body = {
      ...numbersOf(model.value),
      name: name.value,
      camera: kind.value === "folder" ? null : source.value,
      watched: kind.value === "folder" ? watched.value : null,
      out: kind.value === "folder" && out.value ? out.value : null,
      moves: moves.value,
      minimum_score: wished.value,
      overlap_limit: CONSTANTS.overlap_limit,
      only: [],
      white: kind.value === "folder" ? white.value : null,
      copies: copies.value ? ("boxes" as const) : ("none" as const),
    };
    const params = { path: { project_id: store.id } };
    const made = await take(api.POST("/api/v1/projects/{project_id}/live", { params, body }));
    emit("made", made.id);
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <form novalidate data-test="live-form" @submit.prevent="start">
    <el-radio-group v-model="kind">
      <el-radio-button value="camera">Camera</el-radio-button>
      <el-radio-button value="here" data-test="live-here">This computer's camera</el-radio-button>
      <el-radio-button value="folder" data-test="live-folder">Watched folder</el-radio-button>
    </el-radio-group>
    <label v-if="kind === 'camera'"
      >Address
      <el-input
        v-model="address"
        placeholder="rtsp://camera/stream, http://127.0.0.1:8330/ or /dev/video0"
        aria-label="Address"
        data-test="camera-address" />
    </label>
    <p v-else-if="kind === 'here'" class="soft">
      The browser asks whether the page may use it. Pictures are sent for as long as the page is open.
    </p>
    <template v-else>
      <p>
        <el-button size="small" data-test="choose-watched" @click="choosing = 'watched'">Folder to watch</el-button>
        {{ watched || "none chosen" }}
      </p>
      <p>
        <el-button size="small" @click="choosing = 'out'">Folder for results</el-button>
        {{ out || "in the data folder of Avocet" }}
      </p>
      <p>
        <el-checkbox v-model="copies" size="small">Annotated copies</el-checkbox>
        <el-checkbox v-model="moves" size="small">Move pictures away once they were looked at</el-checkbox>
      </p>
      <p>
        White beyond 8 bits
        <WhiteSelect v-model="white" automatic="As files, model or pictures say" />
      </p>
    </template>
    <label
      >Name
      <el-input v-model="name" placeholder="Line 2" maxlength="100" aria-label="Name" data-test="live-name" />
    </label>
    <label
      >Model
      <ModelSelect v-model="model" :runs="runs" :ensembles="ensembles" label="Model" />
    </label>
    <el-checkbox v-model="ofModel" size="small" data-test="live-own-scores"
      >Minimum score of the model: {{ scoresOf(run) }}</el-checkbox
    >
    <FigureSlider v-model="score" label="Minimum score" :min="0.01" :max="0.99" :step="0.01" />
    <el-button type="primary" native-type="submit" :disabled="!ready" :loading="busy" data-test="start-live"
      >Start</el-button
    >
    <ServerFolders v-model="browsing" looking @take="takeFolder" />
  </form>
</template>

<style scoped>
form {
  display: grid;
  gap: 14px;
  justify-items: stretch;
}
label {
  display: grid;
  gap: 4px;
}
</style>
