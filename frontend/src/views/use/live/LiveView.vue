<script setup lang="ts">
/** Cameras and watched folders on which a model works until it is stopped. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";

import { api, type Ensemble, type Live, type Run, take } from "@/api/client";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import LiveForm from "@/views/use/live/LiveForm.vue";
import LivePicture from "@/views/use/live/LivePicture.vue";
import SideList from "@/views/use/SideList.vue";
import UseHead from "@/views/use/UseHead.vue";

const store = useProject();
const live = ref<Live[]>([]);
const beside = ref("");
const runs = ref<Run[]>([]);
const ensembles = ref<Ensemble[]>([]);
const chosen = ref(0);
const making = ref(false);
const loaded = ref(false);
const failed = ref("");

const usable = computed(() => runs.value.filter((run) => run.has_model));
const shown = computed(() => live.value.find((each) => each.id === chosen.value));
const listed = computed(() =>
  live.value.map((each) => ({
    id: each.id,
    name: each.name,
    about: `${each.kind === "camera" ? "Camera" : "Folder"}, ${each.model}, ${going(each) ? "live" : each.job.state}`,
  })),
);
const going = (each: Live): boolean => each.job.state === "running" || each.job.state === "waiting";

async function load(): Promise<void> {
  try {
    const path = { project_id: store.id };
    const [here, all, combined] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/live", { params: { path } })),
      take(api.GET("/api/v1/projects/{project_id}/runs", { params: { path } })),
      take(api.GET("/api/v1/projects/{project_id}/ensembles", { params: { path } })),
    ]);
    [live.value, beside.value, runs.value] = [here.live, here.beside, all.runs];
    ensembles.value = combined.ensembles;
    if (!shown.value) chosen.value = live.value.at(-1)?.id ?? 0;
    [loaded.value, failed.value] = [true, ""];
  } catch (error) {
    failed.value = wordsOf(error);
  }
}
function made(id: number): void {
  [making.value, chosen.value] = [false, id];
  void load();
}
async function act(what: "stop" | "go-on"): Promise<void> {
  if (!shown.value) return;
  const params = { path: { live_id: shown.value.id } };
  try {
    if (what === "stop") await take(api.POST("/api/v1/live/{live_id}/stop", { params }));
    else await take(api.POST("/api/v1/live/{live_id}/go-on", { params }));
    await load();
  } catch (error) {
    complain(error);
  }
}
async function bin(each: Live, away: boolean): Promise<void> {
  try {
    const params = { path: { live_id: each.id } };
    await take(api.POST("/api/v1/live/{live_id}/bin", { params, body: { binned: away } }));
    if (away) sayWithUndo(`${each.name} stopped and moved to the bin`, () => bin(each, false));
    chosen.value = away ? 0 : each.id;
    await load();
  } catch (error) {
    complain(error);
  }
}
onMounted(load);
const timer = setInterval(() => void load(), 4000);
onBeforeUnmount(() => clearInterval(timer));
useKeys([
  { keys: ["n"], label: "New camera or watched folder", run: () => (making.value = true) },
  { keys: ["Ctrl+."], label: "Stop", run: () => shown.value && going(shown.value) && act("stop") },
  { keys: ["r"], label: "Resume", run: () => shown.value?.job.resumable && act("go-on") },
]);
</script>

<template>
  <div class="view">
    <UseHead>
      <span class="soft" data-test="beside">{{ beside }}</span>
      <el-button
        v-if="usable.length"
        v-hint="'New camera or watched folder'"
        type="primary"
        data-test="new-live"
        @click="making = true"
        >New</el-button
      >
    </UseHead>
    <p v-if="failed" class="notice bad">
      {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
    </p>
    <div v-else-if="loaded && !live.length" class="empty">
      <h2>{{ usable.length ? "Nothing live yet" : "No model to use yet" }}</h2>
      <p class="soft">
        A model can work on what a camera shows, or on every picture that appears in a folder, until you stop it.
      </p>
      <p class="soft">
        To try it without a camera, start <code>avocet camera</code> and use the address http://127.0.0.1:8330/
      </p>
      <el-button v-if="usable.length" type="primary" @click="making = true">New camera or watched folder</el-button>
    </div>
    <div v-else-if="loaded" class="body">
      <SideList
        v-model="chosen"
        :items="listed"
        label="Cameras and watched folders"
        one="camera or folder"
        test="live-row" />
      <LivePicture
        v-if="shown"
        :key="shown.id"
        :live="shown"
        :going="going(shown)"
        @stop="act('stop')"
        @go-on="act('go-on')"
        @bin="bin(shown, true)"
        @changed="load" />
    </div>
    <el-dialog v-model="making" title="A model, live" width="520">
      <LiveForm v-if="making" :runs="usable" :ensembles="ensembles" @made="made" />
    </el-dialog>
  </div>
</template>

<style scoped>
.body {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: 190px minmax(0, 1fr);
}
.empty {
  display: grid;
  gap: 12px;
  justify-items: center;
  padding: 90px 0;
  text-align: center;
}
</style>
