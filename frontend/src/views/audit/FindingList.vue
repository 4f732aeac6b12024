<script setup lang="ts">
/** What looks wrong, by kind: mend it here, go there, or say that it is fine. */
import { computed, onMounted, ref } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Finding, type Findings, type Picture, take } from "@/api/client";
import { count } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";
import CropTile from "@/views/audit/CropTile.vue";

const store = useProject();
const route = useRoute();
const router = useRouter();
const findings = ref<Findings | null>(null);
const withFine = ref(false);
const failed = ref("");
const focused = ref(0);
const groups = computed(() => {
  const found = new Map<string, { finding: Finding; place: number }[]>();
  (findings.value?.listed ?? []).forEach((finding, place) => {
    if (!found.has(finding.kind)) found.set(finding.kind, []);
    found.get(finding.kind)!.push({ finding, place });
  });
  return [...found];
});
const now = computed(() => findings.value?.listed[focused.value]);

async function load(): Promise<void> {
  try {
    const query = { with_fine: withFine.value };
    findings.value = await take(api.GET("/api/v1/projects/{project_id}/findings", { params: { path: { project_id: store.id }, query } }));
    focused.value = Math.min(focused.value, Math.max(0, findings.value.listed.length - 1));
    failed.value = "";
  } catch (error) {
    failed.value = (error as Error).message;
  }
}
onMounted(load);

async function setFine(finding: Finding, fine: boolean): Promise<void> {
  const put = (value: boolean) =>
    take(api.PUT("/api/v1/projects/{project_id}/findings", { params: { path: { project_id: store.id } }, body: { keys: [finding.key], fine: value } }));
  try {
    await put(fine);
    await load();
    sayWithUndo(fine ? "Fine as it is" : "Looked at again", async () => {
      await put(!fine);
      await load();
    });
  } catch (error) {
    complain(error);
  }
}

async function deleteBoxes(ids: number[]): Promise<void> {
  try {
    const { change } = await take(
      api.POST("/api/v1/projects/{project_id}/boxes", { params: { path: { project_id: store.id } }, body: { ids, class_id: null } }),
    );
    await Promise.all([load(), store.loadClasses(), store.refresh()]);
    sayWithUndo(change.title, async () => {
      await store.undoChange(change.id);
      await load();
    });
  } catch (error) {
    complain(error);
  }
}

/** Save a picture's labels as they are, in another state. */
async function setState(pictureId: number, state: Picture["state"]): Promise<void> {
  const path = { picture_id: pictureId };
  const detail = await take(api.GET("/api/v1/pictures/{picture_id}", { params: { path } }));
  const { revision, boxes } = detail.labels;
  await take(api.PUT("/api/v1/pictures/{picture_id}/labels", { params: { path }, body: { revision, boxes, state } }));
}

async function confirmEmpty(finding: Finding, empty: boolean): Promise<void> {
  const id = finding.pictures[0]!;
  try {
    await setState(id, empty ? "empty" : "unlabelled");
    await Promise.all([load(), store.refresh()]);
    sayWithUndo(empty ? "Confirmed: nothing there" : "Set back to not labelled", async () => {
      await setState(id, empty ? "unlabelled" : "empty");
      await load();
    });
  } catch (error) {
    complain(error);
  }
}

/** Boxes are cut to their picture whenever they are saved. */
async function cutToPicture(finding: Finding): Promise<void> {
  try {
    const path = { picture_id: finding.pictures[0]! };
    const { labels } = await take(api.GET("/api/v1/pictures/{picture_id}", { params: { path } }));
    await setState(path.picture_id, labels.state);
    await load();
  } catch (error) {
    complain(error);
  }
}

/** A class with hardly any boxes may be one that nobody wants any more; its key names it. */
async function retire(finding: Finding): Promise<void> {
  const path = { project_id: store.id, class_id: Number(finding.key.split(" ")[2]) };
  try {
    const found = await take(api.DELETE("/api/v1/projects/{project_id}/classes/{class_id}", { params: { path } }));
    store.allClasses = found.classes;
    await load();
    sayWithUndo("Class retired", async () => {
      await store.undoChange(found.change_id!);
      await load();
    });
  } catch (error) {
    complain(error);
  }
}

/** Bring the second picture of a near-identical pair into the part of the first. */
async function joinParts(finding: Finding): Promise<void> {
  const pictures = await Promise.all(
    finding.pictures.map(async (id) => (await take(api.GET("/api/v1/pictures/{picture_id}", { params: { path: { picture_id: id } } }))).picture),
  );
  const [first, second] = pictures;
  if (!first || !second) return;
  const put = (part: Picture["part"]) =>
    take(api.PUT("/api/v1/projects/{project_id}/parts", { params: { path: { project_id: store.id } }, body: { ids: [second.id], part } }));
  try {
    await put(first.part);
    await load();
    sayWithUndo(`${second.name} moved to ${first.part}`, async () => {
      await put(second.part);
      await load();
    });
  } catch (error) {
    complain(error);
  }
}

function open(pictureId: number | undefined): void {
  if (pictureId) void router.push({ path: `/project/${store.id}/collect/${pictureId}`, query: { from: route.fullPath } });
}

function step(by: number): void {
  const last = (findings.value?.listed.length ?? 1) - 1;
  focused.value = Math.min(Math.max(focused.value + by, 0), last);
  const row = document.querySelector<HTMLElement>(`[data-finding="${focused.value}"]`);
  row?.scrollIntoView({ block: "nearest" });
  row?.focus({ preventScroll: true });
}

useKeys([
  { keys: ["ArrowDown"], label: "Next finding", run: () => step(1) },
  { keys: ["ArrowUp"], label: "Finding before", run: () => step(-1) },
  { keys: ["Enter"], label: "Open its picture", run: () => open(now.value?.pictures[0]) },
  { keys: ["f"], label: "Fine as it is", run: () => now.value && setFine(now.value, !now.value.fine) },
  { keys: ["Delete"], label: "Delete its last box", run: () => now.value?.boxes.length && now.value.kind !== "few boxes" && deleteBoxes([now.value.boxes.at(-1)!.id]) },
]);

function crop(finding: Finding, place: number) {
  const box = finding.boxes[place]!;
  return { ...box, picture_name: "", value: 0 };
}
</script>

<template>
  <div class="side">
    <div class="head">
      <span v-if="findings" data-test="findings-count">{{ count(Object.values(findings.counts).reduce((a, b) => a + b, 0), "finding") }}</span>
      <span class="spread" />
      <el-checkbox v-model="withFine" size="small" @change="load">Show those marked fine ({{ findings?.fine ?? 0 }})</el-checkbox>
    </div>
    <p v-if="failed" class="notice bad">{{ failed }} <el-button link type="primary" @click="load">Try again</el-button></p>
    <p v-else-if="!findings" class="none soft">Looking through all labels</p>
    <div v-else-if="!findings.listed.length" class="none" data-test="no-findings">
      <h2>Nothing looks wrong</h2>
      <p class="soft">The rules found nothing. The sheets on the left show all boxes of a class side by side.</p>
    </div>
    <div v-else class="list" data-test="findings">
      <section v-for="[kind, some] in groups" :key="kind">
        <h3>{{ findings.titles[kind] }} <span class="soft">{{ findings.counts[kind] }}</span></h3>
        <div
          v-for="{ finding, place } in some"
          :key="finding.key"
          class="row"
          :class="{ here: place === focused, fine: finding.fine }"
          :data-finding="place"
          tabindex="-1"
          data-test="finding"
          @click="focused = place"
        >
          <div v-if="kind === 'near-identical'" class="crops">
            <img v-for="id in finding.pictures" :key="id" :src="`/api/v1/pictures/${id}/thumbnail`" alt="" @click="open(id)" />
          </div>
          <div v-else-if="kind === 'unconfirmed'" class="crops">
            <img :src="`/api/v1/pictures/${finding.pictures[0]}/thumbnail`" alt="" @click="open(finding.pictures[0])" />
          </div>
          <div v-else class="crops">
            <CropTile v-for="(box, index) in finding.boxes.slice(0, 3)" :key="box.id" :crop="crop(finding, index)" :chosen="false" :focused="false" :value="store.classById.get(box.class_id)?.name ?? ''" @click="open(box.picture_id)" @open="open(box.picture_id)" />
          </div>
          <p class="text">{{ finding.text }}</p>
          <div class="actions">
            <template v-if="['doubled', 'two classes'].includes(kind)">
              <el-button v-for="(box, index) in finding.boxes" :key="box.id" size="small" data-test="mend" @click="deleteBoxes([box.id])">
                Delete {{ kind === "two classes" ? store.classById.get(box.class_id)?.name : index ? "second" : "first" }}
              </el-button>
            </template>
            <el-button v-else-if="['tiny', 'odd shape', 'outside'].includes(kind)" size="small" data-test="mend" @click="deleteBoxes(finding.boxes.map((box) => box.id))">Delete</el-button>
            <el-button v-if="kind === 'outside'" size="small" @click="cutToPicture(finding)">Cut to the picture</el-button>
            <template v-if="kind === 'unconfirmed'">
              <el-button size="small" data-test="mend" @click="confirmEmpty(finding, true)">Nothing there</el-button>
              <el-button size="small" @click="confirmEmpty(finding, false)">Not labelled yet</el-button>
            </template>
            <el-button v-if="kind === 'near-identical'" size="small" data-test="mend" @click="joinParts(finding)">Same part</el-button>
            <el-button v-if="kind === 'few boxes'" size="small" data-test="mend" @click="retire(finding)">Retire the class</el-button>
            <el-button v-if="finding.pictures.length" size="small" @click="open(finding.pictures[0])">Open</el-button>
            <el-button size="small" data-test="fine" @click="setFine(finding, !finding.fine)">{{ finding.fine ? "Not fine" : "Fine as it is" }}</el-button>
          </div>
        </div>
        <p v-if="(findings.counts[kind] ?? 0) > some.length" class="soft">and {{ (findings.counts[kind] ?? 0) - some.length }} more</p>
      </section>
    </div>
  </div>
</template>

<style scoped>
.side { display: flex; flex-direction: column; min-height: 0; min-width: 0; }
.head { display: flex; gap: 12px; align-items: center; padding: 9px 16px; border-bottom: 1px solid var(--rule); min-height: 46px; }
.spread { flex: 1; }
.list { flex: 1; min-height: 0; overflow: auto; padding: 10px 16px 24px; }
section { margin-bottom: 18px; }
h3 { margin: 6px 0; }
.row { display: flex; gap: 14px; align-items: center; padding: 7px 6px; border-bottom: 1px solid var(--rule); border-left: 3px solid transparent; }
.row.here { border-left-color: var(--leg); background: var(--leg-pale); }
.row.fine .text { color: var(--ink-soft); }
.crops { display: flex; gap: 6px; flex: none; min-width: 68px; }
.crops :deep(.tile) { width: 66px; }
.crops img { height: 58px; max-width: 103px; object-fit: cover; cursor: pointer; }
.text { flex: 1; }
.actions { display: flex; gap: 6px; flex: none; }
.actions :deep(.el-button) { margin: 0; }
.none { padding: 70px; text-align: center; display: grid; gap: 10px; }
</style>
