<script setup lang="ts">
/** The pictures of the project: add, look through, split, exchange labels. */
import { computed, onBeforeUnmount, onMounted, reactive, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Part, type Picture, type PictureState, take } from "@/api/client";
import { capital, count } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";
import DropTarget from "@/views/collect/DropTarget.vue";
import ImportDialog from "@/views/collect/ImportDialog.vue";
import PictureCard from "@/views/collect/PictureCard.vue";
import SplitDialog from "@/views/collect/SplitDialog.vue";

const store = useProject();
const route = useRoute();
const router = useRouter();

const pictures = ref<Picture[]>([]);
const total = ref(0);
const nextAfter = ref<number | null>(null);
const loading = ref(true);
const failed = ref("");
const chosen = reactive(new Set<number>());
const splitting = ref(false);
const importing = ref(false);
const drop = ref<InstanceType<typeof DropTarget>>();
const grid = ref<HTMLDivElement>();
const exportLink = ref<HTMLAnchorElement>();
const end = ref<HTMLDivElement>();
let lastChosen = -1;

const filter = reactive({
  state: (route.query.state as PictureState | undefined) ?? undefined,
  part: (route.query.part as Part | undefined) ?? undefined,
  class_id: route.query.class_id ? Number(route.query.class_id) : undefined,
  name: (route.query.name as string | undefined) ?? "",
  binned: false,
});
const query = computed(() => ({
  state: filter.state || undefined,
  part: filter.part || undefined,
  class_id: filter.class_id || undefined,
  name: filter.name.trim() || undefined,
  binned: filter.binned,
}));
const filtered = computed(() => Boolean(query.value.state || query.value.part || query.value.class_id || query.value.name));

const states: { value: PictureState; label: string }[] = [
  { value: "unlabelled", label: "Not labelled" },
  { value: "in_progress", label: "In progress" },
  { value: "done", label: "Done" },
  { value: "empty", label: "Nothing here" },
];
const parts: Part[] = ["training", "validation", "test"];

let observer: IntersectionObserver | null = null;
let turn = 0;
async function load(more = false): Promise<void> {
  const mine = ++turn;
  loading.value = true;
  try {
    const page = await take(
      api.GET("/api/v1/projects/{project_id}/pictures", {
        params: {
          path: { project_id: store.id },
          query: { ...query.value, after: more ? (nextAfter.value ?? 0) : 0, limit: 120 },
        },
      }),
    );
    if (mine !== turn) return;
    pictures.value = more ? [...pictures.value, ...page.pictures] : page.pictures;
    total.value = page.total;
    nextAfter.value = page.next_after;
    failed.value = "";
  } catch (error) {
    failed.value = (error as Error).message;
  } finally {
    if (mine === turn) {
      loading.value = false;
      watchEnd();
    }
  }
}

/** Look anew at the end of the grid: where it is still in sight, the next page follows at once. */
function watchEnd(): void {
  if (!observer || !end.value) return;
  observer.unobserve(end.value);
  observer.observe(end.value);
}

async function refresh(): Promise<void> {
  await Promise.all([load(), store.refresh()]);
}

let waiting = 0;
watch(query, () => {
  window.clearTimeout(waiting);
  waiting = window.setTimeout(() => {
    chosen.clear();
    void router.replace({ query: { ...query.value, binned: undefined, class_id: query.value.class_id?.toString() } });
    void load();
  }, 150);
});

onMounted(() => {
  observer = new IntersectionObserver(([entry]) => {
    if (entry?.isIntersecting && nextAfter.value !== null && !loading.value) void load(true);
  }, { rootMargin: "600px" });
  void load();
  void store.refresh();
});
const forget = store.onJob((job) => {
  if (job.kind === "sample_clip") void load();
});
onBeforeUnmount(() => {
  observer?.disconnect();
  forget();
});

async function open(picture: Picture): Promise<void> {
  const passed = { ...query.value, binned: undefined, class_id: query.value.class_id?.toString() };
  await router.push({ path: `/project/${store.id}/collect/${picture.id}`, query: passed });
}

function toggle(index: number, event: MouseEvent): void {
  const on = !chosen.has(pictures.value[index]!.id);
  const range = event.shiftKey && lastChosen >= 0 ? [Math.min(lastChosen, index), Math.max(lastChosen, index)] : [index, index];
  for (const picture of pictures.value.slice(range[0], range[1]! + 1)) {
    if (on) chosen.add(picture.id);
    else chosen.delete(picture.id);
  }
  lastChosen = index;
}

async function setPart(part: Part): Promise<void> {
  const before = new Map(pictures.value.filter((each) => chosen.has(each.id)).map((each) => [each.id, each.part]));
  try {
    const { changed } = await take(putPart([...chosen], part));
    chosen.clear();
    await refresh();
    sayWithUndo(`${count(changed, "picture")} moved to ${part}`, async () => {
      for (const old of [...parts, null]) {
        const ids = [...before].filter(([, value]) => value === old).map(([id]) => id);
        if (ids.length) await take(putPart(ids, old));
      }
      await refresh();
    });
  } catch (error) {
    complain(error);
  }
}

function putPart(ids: number[], part: Part | null) {
  return api.PUT("/api/v1/projects/{project_id}/parts", {
    params: { path: { project_id: store.id } },
    body: { ids, part },
  });
}

async function setBinned(binned: boolean): Promise<void> {
  const ids = [...chosen];
  if (!ids.length) return;
  const put = (value: boolean) =>
    take(api.PUT("/api/v1/projects/{project_id}/bin", { params: { path: { project_id: store.id } }, body: { ids, binned: value } }));
  try {
    const { changed } = await put(binned);
    chosen.clear();
    await refresh();
    sayWithUndo(`${count(changed, "picture")} ${binned ? "put into the bin" : "taken back"}`, async () => {
      await put(!binned);
      await refresh();
    });
  } catch (error) {
    complain(error);
  }
}

function focusCard(step: number): void {
  const cards = [...(grid.value?.querySelectorAll<HTMLElement>(".card-open") ?? [])];
  const now = cards.indexOf(document.activeElement as HTMLElement);
  cards[Math.min(Math.max(now + step, 0), cards.length - 1)]?.focus();
}

function columns(): number {
  return grid.value ? getComputedStyle(grid.value).gridTemplateColumns.split(" ").length : 1;
}

useKeys([
  { keys: ["o"], label: "Add pictures or a clip", run: () => drop.value?.ask() },
  { keys: ["s"], label: "Split into parts", run: () => (splitting.value = true) },
  { keys: ["i"], label: "Import labels", run: () => (importing.value = true) },
  { keys: ["e"], label: "Export labels", run: () => exportLink.value?.click() },
  { keys: ["Delete"], label: "Put the chosen pictures into the bin", run: () => setBinned(true) },
  { keys: ["Ctrl+a"], label: "Choose all that are shown", run: () => pictures.value.forEach((each) => chosen.add(each.id)) },
  { keys: ["Escape"], label: "Choose none", run: () => chosen.clear() },
  { keys: ["ArrowRight"], label: "Next picture", run: () => focusCard(1) },
  { keys: ["ArrowLeft"], label: "Previous picture", run: () => focusCard(-1) },
  { keys: ["ArrowDown"], label: "Row down", hidden: true, run: () => focusCard(columns()) },
  { keys: ["ArrowUp"], label: "Row up", hidden: true, run: () => focusCard(-columns()) },
  {
    keys: ["x"],
    label: "Choose the picture in focus",
    run: (event) => {
      const cards = [...(grid.value?.querySelectorAll<HTMLElement>(".card-open") ?? [])];
      const index = cards.indexOf(document.activeElement as HTMLElement);
      if (index >= 0) toggle(index, event as unknown as MouseEvent);
    },
  },
]);
</script>

<template>
  <DropTarget ref="drop" class="view" @added="refresh">
    <header class="view-head">
      <h1>Collect</h1>
      <span class="soft">{{ store.project?.stages.labelled }} of {{ count(store.project?.stages.pictures ?? 0, "picture") }} labelled</span>
      <span class="spread" />
      <el-button data-test="import" @click="importing = true">Import labels</el-button>
      <a ref="exportLink" :href="`/api/v1/projects/${store.id}/annotations`" download data-test="export"><el-button tag="span">Export labels</el-button></a>
      <el-button data-test="split" @click="splitting = true">Split</el-button>
      <el-button type="primary" data-test="add" @click="drop?.ask()">Add pictures or clips</el-button>
    </header>
    <div v-if="chosen.size" class="filters chosen-bar" data-test="chosen-bar">
      <b>{{ count(chosen.size, "picture") }} chosen</b>
      <span class="soft">Move to</span>
      <el-button v-for="part in parts" :key="part" size="small" @click="setPart(part)">{{ capital(part) }}</el-button>
      <el-button v-if="filter.binned" size="small" @click="setBinned(false)">Take back</el-button>
      <el-button v-else size="small" @click="setBinned(true)">Put into the bin</el-button>
      <el-button size="small" link type="primary" @click="chosen.clear()">Choose none</el-button>
    </div>
    <div v-else class="filters">
      <el-select v-model="filter.state" clearable placeholder="Any state" aria-label="State" size="small" class="pick">
        <el-option v-for="each in states" :key="each.value" :value="each.value" :label="each.label" />
      </el-select>
      <el-select v-model="filter.part" clearable placeholder="Any part" aria-label="Part" size="small" class="pick">
        <el-option v-for="each in parts" :key="each" :value="each" :label="capital(each)" />
      </el-select>
      <el-select v-model="filter.class_id" clearable placeholder="Any class" aria-label="Class" size="small" class="pick">
        <el-option v-for="each in store.classes" :key="each.id" :value="each.id" :label="`${each.name} (${each.boxes})`" />
      </el-select>
      <el-input v-model="filter.name" clearable placeholder="Name contains" aria-label="Name" size="small" class="pick" />
      <el-checkbox v-model="filter.binned" size="small">Bin</el-checkbox>
      <span class="spread" />
      <span class="soft">{{ filtered || filter.binned ? `${count(total, "picture")} shown` : "" }}</span>
    </div>
    <div class="view-body">
      <p v-if="failed" class="notice bad">{{ failed }} <el-button link type="primary" @click="load()">Try again</el-button></p>
      <div v-else-if="!pictures.length && !loading" class="empty" data-test="empty">
        <template v-if="filter.binned"><h2>The bin is empty</h2></template>
        <template v-else-if="filtered"><h2>No picture fits</h2><p class="soft">Loosen the filter above.</p></template>
        <template v-else>
          <h2>No pictures yet</h2>
          <p class="soft">Drop pictures (JPEG, PNG, WebP, BMP, TIFF) or clips (MP4, MOV, AVI, MKV, WebM) anywhere here.</p>
          <el-button type="primary" @click="drop?.ask()">Choose files</el-button>
        </template>
      </div>
      <div ref="grid" class="grid">
        <PictureCard
          v-for="(picture, index) in pictures"
          :key="picture.id"
          :picture="picture"
          :chosen="chosen.has(picture.id)"
          @open="open(picture)"
          @toggle="toggle(index, $event)"
        />
      </div>
      <div ref="end" class="end" />
    </div>
    <SplitDialog v-model="splitting" @changed="refresh" />
    <ImportDialog v-model="importing" @changed="refresh" />
  </DropTarget>
</template>

<style scoped>
.filters { display: flex; gap: 10px; align-items: center; padding: 8px 24px; border-bottom: 1px solid var(--rule); min-height: 44px; }
.chosen-bar { background: var(--leg-pale); }
.chosen-bar :deep(.el-button) { margin: 0; }
.pick { width: 150px; }
.spread { flex: 1; }
.grid { display: grid; grid-template-columns: repeat(auto-fill, minmax(176px, 1fr)); gap: 14px 12px; }
.empty { display: grid; gap: 12px; justify-items: center; padding: 90px 0; text-align: center; }
.end { height: 1px; }
</style>
