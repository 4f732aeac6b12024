<script setup lang="ts">
/** What looks wrong, by kind: mend it here, go there, or say that it is fine. */
import { computed, onMounted, ref } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Finding, type Findings, type Job, type Picture, pictureUrl, take } from "@/api/client";
import { count } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import CropTile from "@/views/audit/CropTile.vue";

const store = useProject();
const live = useLiveJob();
const route = useRoute();
const router = useRouter();
const findings = ref<Findings | null>(null);
const withFine = ref(false);
const looking = ref<Job | null>(null);
const job = computed(() => (looking.value ? live(looking.value) : null));
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

async function fetchKept(): Promise<void> {
  const params = { path: { project_id: store.id }, query: { with_fine: withFine.value } };
  findings.value = await take(api.GET("/api/v1/projects/{project_id}/findings", { params }));
  focused.value = Math.min(focused.value, Math.max(0, findings.value.listed.length - 1));
}

/** What the last look found; where labels changed since, they are looked through anew. */
async function load(): Promise<void> {
  try {
    await fetchKept();
    failed.value = "";
    if (findings.value?.fresh) return;
    const params = { path: { project_id: store.id } };
    const starting = take(api.POST("/api/v1/projects/{project_id}/findings", { params }));
    await store.outcomeOf("look_for_findings", starting, (started) => (looking.value = started));
    await fetchKept();
  } catch (error) {
    failed.value = wordsOf(error);
  } finally {
    looking.value = null;
  }
}
onMounted(load);

/** After a change: the finding goes at once, and the rest is looked through again. */
async function mended(finding: Finding | null, words: string, undo: () => Promise<unknown>): Promise<void> {
  if (finding && findings.value) {
    findings.value.listed = findings.value.listed.filter((each) => each.key !== finding.key);
    findings.value.counts[finding.kind] = (findings.value.counts[finding.kind] ?? 1) - 1;
  }
  sayWithUndo(words, async () => {
    await undo();
    await load();
  });
  await Promise.all([load(), store.refresh()]);
}

async function setFine(finding: Finding, fine: boolean): Promise<void> {
  const params = { path: { project_id: store.id }, query: { with_fine: withFine.value } };
  const put = async (value: boolean) => {
    findings.value = await take(
      api.PUT("/api/v1/projects/{project_id}/findings", { params, body: { keys: [finding.key], fine: value } }),
    );
  };
  try {
    await put(fine);
    sayWithUndo(fine ? "Fine as it is" : "Looked at again", () => put(!fine));
  } catch (error) {
    complain(error);
  }
}

async function deleteBoxes(finding: Finding, ids: number[]): Promise<void> {
  try {
    const params = { path: { project_id: store.id } };
    const body = { ids, class_id: null };
    const made = await store.madeBy(
      "change_boxes",
      take(api.POST("/api/v1/projects/{project_id}/boxes", { params, body })),
    );
    void store.loadClasses();
    await mended(finding, made.title, () => store.undoChange(made.change_id!));
  } catch (error) {
    complain(error);
  }
}

/** Save a picture's labels as they are, in another state. */
async function setState(pictureId: number, state: Picture["state"]): Promise<void> {
  const path = { picture_id: pictureId };
  const detail = await take(api.GET("/api/v1/pictures/{picture_id}", { params: { path } }));
  const { revision, boxes } = detail.labels;
  const body = { revision, boxes, state, worked: 0 };
  await take(api.PUT("/api/v1/pictures/{picture_id}/labels", { params: { path }, body }));
}

async function confirmEmpty(finding: Finding, empty: boolean): Promise<void> {
  const id = finding.pictures[0]!;
  try {
    await setState(id, empty ? "empty" : "unlabelled");
    const words = empty ? "Confirmed: no objects" : "Reset to not labelled";
    await mended(finding, words, () => setState(id, empty ? "unlabelled" : "empty"));
  } catch (error) {
    complain(error);
  }
}

async function cutToPicture(finding: Finding): Promise<void> {
  try {
    const params = { path: { project_id: store.id } };
    const change = await take(
      api.POST("/api/v1/projects/{project_id}/findings/cut", { params, body: { picture_id: finding.pictures[0]! } }),
    );
    await mended(finding, change.title, () => store.undoChange(change.id));
  } catch (error) {
    complain(error);
  }
}

/** A class with hardly any boxes may be one that nobody wants any more. */
async function retire(finding: Finding): Promise<void> {
  const path = { project_id: store.id, class_id: finding.class_id! };
  try {
    const found = await take(api.DELETE("/api/v1/projects/{project_id}/classes/{class_id}", { params: { path } }));
    store.allClasses = found.classes;
    await mended(finding, "Class retired", () => store.undoChange(found.change_id!));
  } catch (error) {
    complain(error);
  }
}

/** Bring near-identical pictures into the part of the first. */
async function joinParts(finding: Finding): Promise<void> {
  try {
    const params = { path: { project_id: store.id } };
    const made = await take(
      api.POST("/api/v1/projects/{project_id}/findings/join", { params, body: { picture_ids: finding.pictures } }),
    );
    await mended(finding, made.title, () => (made.change_id ? store.undoChange(made.change_id) : Promise.resolve()));
  } catch (error) {
    complain(error);
  }
}

/** Open a picture of a finding with one of its boxes selected: the last, which is the one in question. */
function open(finding: Finding | undefined, pictureId = finding?.pictures[0], box?: Finding["boxes"][number]): void {
  if (!finding || !pictureId) return;
  const chosen = box ?? finding.boxes.filter((each) => each.picture_id === pictureId).at(-1);
  const query = { from: route.fullPath, box: chosen?.corners.join() };
  void router.push({ path: `/project/${store.id}/collect/${pictureId}`, query });
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
  { keys: ["ArrowUp"], label: "Previous finding", run: () => step(-1) },
  { keys: ["Enter"], label: "Open its picture", run: () => open(now.value) },
  { keys: ["f"], label: "Fine as it is", run: () => now.value && setFine(now.value, !now.value.fine) },
  {
    keys: ["Delete"],
    label: "Delete its last box",
    run: () =>
      now.value?.boxes.length && now.value.kind !== "few boxes" && deleteBoxes(now.value, [now.value.boxes.at(-1)!.id]),
  },
]);

function crop(finding: Finding, place: number) {
  const box = finding.boxes[place]!;
  return { ...box, picture_name: "", value: 0 };
}
</script>

<template>
  <div class="side">
    <div class="head">
      <span v-if="findings" data-test="findings-count">{{
        count(
          Object.values(findings.counts).reduce((a, b) => a + b, 0),
          "finding",
        )
      }}</span>
      <span v-if="job && findings?.looked_at" class="soft" role="status">Looking again <JobState :job="job" /></span>
      <span class="spread" />
      <el-checkbox v-model="withFine" size="small" @change="load"
        >Show those marked fine ({{ findings?.fine ?? 0 }})</el-checkbox
      >
    </div>
    <p v-if="failed" class="notice bad">
      {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
    </p>
    <p v-else-if="!findings || (looking && !findings.looked_at)" class="none soft" role="status">
      Looking through all labels <JobState v-if="job" :job="job" />
    </p>
    <div v-else-if="!findings.listed.length" class="none" data-test="no-findings">
      <h2>Nothing looks wrong</h2>
      <p class="soft">The rules found nothing. The sheets on the left show all boxes of a class side by side.</p>
    </div>
    <div v-else class="list" data-test="findings">
      <section v-for="[kind, some] in groups" :key="kind">
        <h3>
          {{ findings.titles[kind] }} <span class="soft">{{ findings.counts[kind] }}</span>
        </h3>
        <div
          v-for="{ finding, place } in some"
          :key="finding.key"
          class="row"
          :class="{ here: place === focused, fine: finding.fine }"
          :data-finding="place"
          tabindex="0"
          data-test="finding"
          @focusin="focused = place"
          @click="focused = place">
          <div v-if="kind === 'near-identical'" class="crops">
            <button
              v-for="id in finding.pictures"
              :key="id"
              type="button"
              class="thumb"
              aria-label="Open the picture"
              @click="open(finding, id)">
              <img :src="pictureUrl({ id }, 'thumbnail')" alt="" />
            </button>
          </div>
          <div v-else-if="kind === 'unconfirmed'" class="crops">
            <button type="button" class="thumb" aria-label="Open the picture" @click="open(finding)">
              <img :src="pictureUrl({ id: finding.pictures[0]! }, 'thumbnail')" alt="" />
            </button>
          </div>
          <div v-else class="crops">
            <CropTile
              v-for="(box, index) in finding.boxes.slice(0, 3)"
              :key="box.id"
              :crop="crop(finding, index)"
              :chosen="false"
              :focused="false"
              :value="store.classById.get(box.class_id)?.name ?? ''"
              @click="open(finding, box.picture_id, box)"
              @open="open(finding, box.picture_id, box)" />
          </div>
          <p class="text">{{ finding.text }}</p>
          <div class="actions">
            <template v-if="['doubled', 'two classes'].includes(kind)">
              <el-button
                v-for="(box, index) in finding.boxes"
                :key="box.id"
                size="small"
                data-test="mend"
                @click="deleteBoxes(finding, [box.id])">
                Delete
                {{ kind === "two classes" ? store.classById.get(box.class_id)?.name : index ? "second" : "first" }}
              </el-button>
            </template>
            <el-button
              v-else-if="['tiny', 'odd shape', 'outside'].includes(kind)"
              size="small"
              data-test="mend"
              @click="
                deleteBoxes(
                  finding,
                  finding.boxes.map((box) => box.id),
                )
              "
              >Delete</el-button
            >
            <el-button v-if="kind === 'outside'" size="small" @click="cutToPicture(finding)"
              >Cut to the picture</el-button
            >
            <template v-if="kind === 'unconfirmed'">
              <el-button size="small" data-test="mend" @click="confirmEmpty(finding, true)">No objects</el-button>
              <el-button size="small" @click="confirmEmpty(finding, false)">Not labelled yet</el-button>
            </template>
            <el-button v-if="kind === 'near-identical'" size="small" data-test="mend" @click="joinParts(finding)"
              >Same part</el-button
            >
            <el-button v-if="kind === 'few boxes'" size="small" data-test="mend" @click="retire(finding)"
              >Retire the class</el-button
            >
            <el-button v-if="finding.pictures.length" size="small" @click="open(finding)">Open</el-button>
            <el-button size="small" data-test="fine" @click="setFine(finding, !finding.fine)">{{
              finding.fine ? "Not fine" : "Fine as it is"
            }}</el-button>
          </div>
        </div>
        <p v-if="(findings.counts[kind] ?? 0) > some.length" class="soft">
          and {{ (findings.counts[kind] ?? 0) - some.length }} more
        </p>
      </section>
    </div>
  </div>
</template>

<style scoped>
.side {
  display: flex;
  flex-direction: column;
  min-height: 0;
  min-width: 0;
}
.head {
  display: flex;
  gap: 12px;
  align-items: center;
  padding: 9px 16px;
  border-bottom: 1px solid var(--rule);
  min-height: 46px;
}
.spread {
  flex: 1;
}
.list {
  flex: 1;
  min-height: 0;
  overflow: auto;
  padding: 10px 16px 24px;
}
section {
  margin-bottom: 18px;
}
h3 {
  margin: 6px 0;
}
.row {
  display: flex;
  gap: 14px;
  align-items: center;
  padding: 7px 6px;
  border-bottom: 1px solid var(--rule);
  border-left: 3px solid transparent;
}
.row.here {
  border-left-color: var(--leg);
  background: var(--leg-pale);
}
.row.fine .text {
  color: var(--ink-soft);
}
.crops {
  display: flex;
  gap: 6px;
  flex: none;
  min-width: 68px;
}
.crops :deep(.tile) {
  width: 66px;
}
.thumb {
  border: 0;
  padding: 0;
  background: none;
  cursor: pointer;
}
.thumb img {
  display: block;
  height: 58px;
  max-width: 103px;
  object-fit: cover;
}
.text {
  flex: 1;
}
.actions {
  display: flex;
  gap: 6px;
  flex: none;
}
.actions :deep(.el-button) {
  margin: 0;
}
.none {
  padding: 70px;
  text-align: center;
  display: grid;
  gap: 10px;
}
</style>
