<script setup lang="ts">
/** The pictures of the project: add, look through, choose, split, exchange labels. */
import { computed, onBeforeUnmount, onMounted, reactive, ref, shallowRef, watch } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type JobKind, type Part, type Picture, type PictureState, take, type White } from "@/api/client";
import { count, whole } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import ChosenBar from "@/views/pictures/ChosenBar.vue";
import CollectHead from "@/views/pictures/CollectHead.vue";
import DropTarget from "@/views/pictures/DropTarget.vue";
import ExportDialog from "@/views/exchange/ExportDialog.vue";
import FilterBar from "@/views/pictures/FilterBar.vue";
import ImportDialog from "@/views/exchange/ImportDialog.vue";
import PictureGrid from "@/views/pictures/PictureGrid.vue";
import { type PictureQuery, usePictureList } from "@/views/pictures/pictureList";
import ProposeDialog from "@/views/pictures/ProposeDialog.vue";
import SplitDialog from "@/views/pictures/SplitDialog.vue";
import WhiteDialog from "@/views/pictures/WhiteDialog.vue";
import { sendDrafts } from "@/views/labels/saving/drafts";
import { endSitting } from "@/views/labels/editing/sitting";

const store = useProject();
const route = useRoute();
const router = useRouter();

const given = route.query as Record<string, string | undefined>;
const query = ref<PictureQuery>({
  state: given.state as PictureState | undefined,
  part: given.part as Part | undefined,
  unassigned: given.unassigned === "true" || undefined,
  class_id: given.class_id ? Number(given.class_id) : undefined,
  name: given.name,
  source: given.source,
  attribute: given.attribute,
  origin: given.origin as PictureQuery["origin"],
  tag: given.tag,
  order: given.order as PictureQuery["order"],
  descending: given.descending === "true" || undefined,
});
const { total, loading, failed, filtered, reload, at, need, allIds } = usePictureList(() => store.id, query);
const chosen = reactive(new Set<number>());
const splitting = ref(false);
const importing = ref(false);
const exporting = ref(false);
const proposing = ref(false);
const labelsFrom = shallowRef<number | File[] | null>(null);
const drop = ref<InstanceType<typeof DropTarget>>();
const grid = ref<InstanceType<typeof PictureGrid>>();
const filters = ref<InstanceType<typeof FilterBar>>();
const bar = ref<InstanceType<typeof ChosenBar>>();
const tags = ref<string[]>([]);
const white = ref<White | null>(null);
const whitening = ref(false);
const chosenIds = computed(() => [...chosen]);
const memory = computed(() => `avocet.grid.${store.id}.${JSON.stringify(query.value)}`);
let lastChosen = -1;

async function refresh(): Promise<void> {
  await Promise.all([reload(false), store.refresh(), filters.value?.loadChoices(), loadTags(), loadWhite()]);
}

async function loadWhite(): Promise<void> {
  const params = { path: { project_id: store.id } };
  white.value = await take(api.GET("/api/v1/projects/{project_id}/white", { params }));
}

async function loadTags(): Promise<void> {
  const found = await take(
    api.GET("/api/v1/projects/{project_id}/choices", { params: { path: { project_id: store.id } } }),
  );
  tags.value = found.tags;
}

watch(query, () => {
  chosen.clear();
  void router.replace({ query: textual(query.value) });
  grid.value?.toStart();
  void reload(true);
});

/** The query as an address carries it; the bin is not worth a link. */
function textual(wanted: PictureQuery): Record<string, string> {
  const { binned: _binned, ...rest } = wanted;
  return Object.fromEntries(
    Object.entries(rest)
      .filter(([, value]) => value !== undefined)
      .map(([name, value]) => [name, String(value)]),
  );
}

onMounted(() => {
  endSitting();
  void reload(true);
  void store.refresh();
  void loadTags().catch(complain);
  void loadWhite().catch(complain);
  void sendDrafts().then((sent) => (sent ? refresh() : undefined));
});
const forget = store.onJob((job) => {
  // While it is at work only the strip moves; what came is loaded once it ends.
  const brings: JobKind[] = ["sample_clip", "take_archive", "take_folder", "take_labels"];
  if (brings.includes(job.kind) && job.state !== "running" && job.state !== "waiting") void refresh();
  const seen = job.state === "done" ? job.outcome.look_at_pictures : null;
  if (seen?.unreadable) {
    const first = seen.messages.slice(0, 3).join("; ");
    complain(
      new Error(
        `${count(seen.unreadable, "picture")} without a thumbnail: ${first}${seen.unreadable > 3 ? "; …" : ""}`,
      ),
    );
  }
});
onBeforeUnmount(forget);

async function open(picture: Picture): Promise<void> {
  await router.push({ path: `/project/${store.id}/collect/${picture.id}`, query: textual(query.value) });
}

function toggle(index: number, event: MouseEvent | KeyboardEvent): void {
  const picture = at(index);
  if (!picture) return;
  const on = !chosen.has(picture.id);
  const range =
    event.shiftKey && lastChosen >= 0 ? [Math.min(lastChosen, index), Math.max(lastChosen, index)] : [index, index];
  for (let place = range[0]!; place <= range[1]!; place += 1) {
    const each = at(place);
    if (each && on) chosen.add(each.id);
    else if (each) chosen.delete(each.id);
  }
  lastChosen = index;
}

async function chooseAll(): Promise<void> {
  try {
    for (const id of await allIds()) chosen.add(id);
  } catch (error) {
    complain(error);
  }
}

async function done(): Promise<void> {
  chosen.clear();
  await refresh();
}

/** Pictures with boxes that nobody called done: they are neither counted nor learnt from. */
function showInProgress(): void {
  chosen.clear();
  filters.value?.only("in_progress");
}

function readLabels(from: number | File[]): void {
  labelsFrom.value = from;
  importing.value = true;
}

useKeys([
  { keys: ["a"], label: "Add pictures or clips", run: () => drop.value?.ask() },
  { keys: ["Shift+s"], label: "Split into parts", run: () => (splitting.value = true) },
  { keys: ["i"], label: "Import labels", run: () => (importing.value = true) },
  { keys: ["Shift+p"], label: "Let a model propose boxes", run: () => (proposing.value = true) },
  { keys: ["e"], label: "Export labels", run: () => (exporting.value = true) },
  {
    keys: ["Shift+w"],
    label: "Choose what is white in pictures of more than 8 bits",
    hidden: true,
    run: () => (whitening.value = Boolean(white.value?.pictures)),
  },
  { keys: ["Delete"], label: "Move the selected pictures to the bin", run: () => bar.value?.setBinned(true) },
  { keys: ["Ctrl+a"], label: "Select all that the filter leaves", run: chooseAll },
  { keys: ["Escape"], label: "Clear selection", run: () => chosen.clear() },
  { keys: ["ArrowRight"], label: "Next picture", run: () => grid.value?.focus(1) },
  { keys: ["ArrowLeft"], label: "Previous picture", run: () => grid.value?.focus(-1) },
  { keys: ["ArrowDown"], label: "Row down", hidden: true, run: () => grid.value?.focus(grid.value.columns) },
  { keys: ["ArrowUp"], label: "Row up", hidden: true, run: () => grid.value?.focus(-grid.value.columns) },
  { keys: ["PageDown"], label: "Five rows down", hidden: true, run: () => grid.value?.focus(5 * grid.value.columns) },
  { keys: ["PageUp"], label: "Five rows up", hidden: true, run: () => grid.value?.focus(-5 * grid.value.columns) },
  {
    keys: ["x", "Shift+x"],
    label: "Select the picture in focus; with Shift all up to it",
    run: (event) => grid.value && grid.value.focused >= 0 && toggle(grid.value.focused, event),
  },
]);
</script>

<template>
  <DropTarget ref="drop" class="view" @added="refresh" @labels="readLabels">
    <CollectHead>
      <el-button v-hint="'Import labels'" data-test="import" @click="importing = true">Import</el-button>
      <el-button v-hint="'Export labels'" data-test="export" @click="exporting = true">Export</el-button>
      <el-button v-hint="'Split into parts'" data-test="split" @click="splitting = true">Split</el-button>
      <el-button v-hint="'Let a model propose boxes'" data-test="propose-boxes" @click="proposing = true"
        >Propose</el-button
      >
      <el-button v-hint="'Add pictures or clips'" type="primary" data-test="add" @click="drop?.ask()"
        >Add pictures</el-button
      >
    </CollectHead>
    <ChosenBar
      v-show="chosen.size"
      ref="bar"
      :chosen="chosenIds"
      :binned="query.binned ?? false"
      :tags="tags"
      @changed="done"
      @none="chosen.clear()" />
    <FilterBar v-show="!chosen.size" ref="filters" v-model="query" :total="total" :filtered="filtered" />
    <p v-if="failed" class="view-body notice bad">
      {{ failed }} <el-button link type="primary" @click="reload(true)">Try again</el-button>
    </p>
    <div v-else-if="!total && !loading" class="empty" data-test="empty">
      <template v-if="query.binned"><h2>The bin is empty</h2></template>
      <template v-else-if="filtered"
        ><h2>No picture fits</h2>
        <p class="soft">Loosen the filter above.</p></template
      >
      <template v-else>
        <h2>No pictures yet</h2>
        <p class="soft">
          Drop pictures (JPEG, PNG, WebP, BMP, TIFF), clips (MP4, MOV, AVI, MKV, WebM), folders or archives (ZIP, TAR)
          anywhere here.
        </p>
        <el-button type="primary" @click="drop?.ask()">Choose files</el-button>
      </template>
    </div>
    <PictureGrid
      v-else
      ref="grid"
      :key="memory"
      :total="total"
      :at="at"
      :chosen="chosen"
      :memory="memory"
      @need="need"
      @open="open"
      @toggle="toggle" />
    <footer v-if="store.project" class="foot soft">
      {{ whole(store.project.stages.labelled) }} of {{ count(store.project.stages.pictures, "picture") }} labelled
      <span v-if="store.project.stages.pictures > store.project.stages.labelled">
        · {{ whole(store.project.stages.pictures - store.project.stages.labelled) }} to go
      </span>
      <span v-if="store.project.stages.in_progress">
        ·
        <el-button link type="primary" size="small" data-test="left-in-progress" @click="showInProgress"
          >{{ whole(store.project.stages.in_progress) }} in progress, but left</el-button
        >
      </span>
      <span v-if="white?.pictures">
        ·
        <el-button
          v-hint="'Choose what is white in pictures of more than 8 bits'"
          link
          type="primary"
          size="small"
          data-test="white-told"
          @click="whitening = true"
          >{{ count(white.pictures, "picture") }} of more than 8 bits, white at
          {{ white.whites.map(whole).join(" and ") }}</el-button
        >
      </span>
    </footer>
    <SplitDialog v-model="splitting" @changed="refresh" />
    <ImportDialog v-model="importing" :from="labelsFrom" @changed="refresh" @closed="labelsFrom = null" />
    <ExportDialog v-model="exporting" />
    <WhiteDialog v-if="white" v-model="whitening" :white="white" @changed="refresh" />
    <ProposeDialog v-model="proposing" @proposed="refresh" />
  </DropTarget>
</template>

<style scoped>
.empty {
  display: grid;
  gap: 12px;
  justify-items: center;
  align-content: start;
  padding: 90px 24px 0;
  text-align: center;
  flex: 1;
}
.empty p {
  max-width: 520px;
}
.foot {
  padding: 5px 24px;
  border-top: 1px solid var(--rule);
  font-size: 13px;
}
</style>
