<script setup lang="ts">
/** One picture: draw its boxes. Everything is saved by itself. */
import { computed, onMounted, ref, watch } from "vue";
import { onBeforeRouteLeave, onBeforeRouteUpdate, useRoute, useRouter } from "vue-router";

import { api, type Labels, type Picture, take } from "@/api/client";
import { count } from "@/parts/format";
import { type Corners, cut, moved } from "@/stage/geometry";
import type { Shape } from "@/stage/paint";
import PictureStage from "@/stage/PictureStage.vue";
import { type Key, useKeys } from "@/state/keys";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import { useBoxTool } from "@/views/label/boxTool";
import { type DrawnBox, useHistory } from "@/views/label/history";
import LabelPanel from "@/views/label/LabelPanel.vue";
import { useSaving } from "@/views/label/saving";

const route = useRoute();
const router = useRouter();
const store = useProject();

const pictureId = Number(route.params.picture);
const picture = ref<Picture | null>(null);
const ids = ref<number[]>([]);
const boxes = ref<DrawnBox[]>([]);
const selected = ref(-1);
const activeClass = ref<number | null>(null);
const state = ref<Labels["state"]>("unlabelled");
const failed = ref("");

const history = useHistory(pictureId);
const saving = useSaving(
  pictureId,
  () => ({ boxes: boxes.value, state: state.value }),
  (labels) => (state.value = labels.state),
);
const size = computed(() => ({ width: picture.value?.width ?? 1, height: picture.value?.height ?? 1 }));
const tool = useBoxTool(boxes, selected, size, () => activeClassOrAsk(), change);

const place = computed(() => ids.value.indexOf(pictureId));
const listQuery = computed(() => {
  const { state: wanted, part, class_id: classId, name } = route.query;
  return { state: wanted, part, class_id: classId, name } as unknown as Record<string, never>;
});

const shapes = computed<Shape[]>(() => {
  const all: Shape[] = boxes.value.map((box, index) => ({
    corners: tool.preview.value?.index === index ? tool.preview.value.corners : box.corners,
    colour: store.classById.get(box.class_id)?.colour ?? "#A9B8C9",
    badge: String(store.classById.get(box.class_id)?.position ?? "?"),
    selected: index === selected.value,
  }));
  if (tool.drawn.value) {
    const colour = store.classById.get(activeClass.value ?? 0)?.colour ?? "#FAF9F5";
    all.push({ corners: tool.drawn.value, colour });
  }
  return all;
});

onMounted(load);

async function load(): Promise<void> {
  try {
    const detail = await take(
      api.GET("/api/v1/pictures/{picture_id}", { params: { path: { picture_id: pictureId } } }),
    );
    picture.value = detail.picture;
    show(detail.labels);
    saving.start(detail.labels.revision);
    const remembered = Number(sessionStorage.getItem("avocet.class"));
    activeClass.value = store.classById.has(remembered) ? remembered : (store.classes[0]?.id ?? null);
    ids.value = (
      await take(
        api.GET("/api/v1/projects/{project_id}/picture-ids", {
          params: { path: { project_id: store.id }, query: listQuery.value },
        }),
      )
    ).ids;
  } catch (error) {
    failed.value = (error as Error).message;
  }
}

function show(labels: Labels): void {
  boxes.value = labels.boxes as DrawnBox[];
  state.value = labels.state;
  selected.value = -1;
}

function change(next: DrawnBox[]): void {
  history.remember(boxes.value);
  apply(next);
}

function apply(next: DrawnBox[]): void {
  boxes.value = next;
  if (selected.value >= next.length) selected.value = -1;
  if (next.length && state.value === "unlabelled") state.value = "in_progress";
  if (next.length && state.value === "empty") state.value = "in_progress";
  if (!next.length && state.value === "in_progress") state.value = "unlabelled";
  saving.touch();
}

function activeClassOrAsk(): number | null {
  if (activeClass.value === null) complain(new Error("Add a class first, in the panel on the right"));
  return activeClass.value;
}

function chooseClass(classId: number): void {
  activeClass.value = classId;
  sessionStorage.setItem("avocet.class", String(classId));
  const box = boxes.value[selected.value];
  if (box && box.class_id !== classId) {
    change(boxes.value.map((each, index) => (index === selected.value ? { ...each, class_id: classId } : each)));
  }
}

function remove(): void {
  if (selected.value < 0) return;
  const gone = selected.value;
  selected.value = -1;
  change(boxes.value.filter((_, index) => index !== gone));
}

function undo(): void {
  const before = history.undo(boxes.value);
  if (before) apply(before);
}

function redo(): void {
  const after = history.redo(boxes.value);
  if (after) apply(after);
}

function nudge(dx: number, dy: number): boolean {
  const box = boxes.value[selected.value];
  if (!box) return false;
  replaceSelected(moved(box.corners, dx, dy, size.value.width, size.value.height));
  return true;
}

function grow(dx: number, dy: number): boolean {
  const box = boxes.value[selected.value];
  if (!box) return false;
  const [x1, y1, x2, y2] = box.corners;
  replaceSelected([x1, y1, Math.max(x1 + 1, x2 + dx), Math.max(y1 + 1, y2 + dy)]);
  return true;
}

function replaceSelected(corners: Corners): void {
  const next = cut(corners, size.value.width, size.value.height);
  change(boxes.value.map((each, index) => (index === selected.value ? { ...each, corners: next } : each)));
}

function setState(next: Labels["state"]): void {
  state.value = next;
  saving.touch();
}

function nothingHere(): void {
  if (boxes.value.length) change([]);
  setState(state.value === "empty" ? "unlabelled" : "empty");
}

async function go(step: number): Promise<void> {
  const next = ids.value[place.value + step];
  if (next !== undefined) await router.push({ path: `/project/${store.id}/collect/${next}`, query: route.query });
}

async function doneAndNext(): Promise<void> {
  setState(boxes.value.length ? "done" : "empty");
  await saving.save();
  await go(1);
}

async function nextUnlabelled(): Promise<void> {
  const query = { state: "unlabelled" as const };
  const open = await take(
    api.GET("/api/v1/projects/{project_id}/picture-ids", { params: { path: { project_id: store.id }, query } }),
  );
  const next = open.ids.find((each) => each > pictureId) ?? open.ids.find((each) => each !== pictureId);
  if (next) await router.push(`/project/${store.id}/collect/${next}`);
  else complain(new Error("Every picture is labelled"));
}

function takeTheirs(): void {
  history.remember(boxes.value);
  show(saving.takeTheirs());
}

async function leave(): Promise<boolean> {
  await saving.save();
  if (saving.state.value !== "saved") {
    complain(new Error("These boxes are not saved yet. Stay here until they are, so that nothing is lost."));
    return false;
  }
  void store.refresh();
  void store.loadClasses();
  return true;
}
onBeforeRouteLeave(leave);
onBeforeRouteUpdate(leave);
watch(place, (index) => {
  // The next picture is fetched ahead, so that it is there at once.
  const next = ids.value[index + 1];
  if (next) new Image().src = `/api/v1/pictures/${next}/file`;
});

const keys: Key[] = [
  {
    keys: ["1", "2", "3", "4", "5", "6", "7", "8", "9"],
    label: "Class of new boxes, and of the chosen one",
    run: (event) => {
      const found = store.classes.find((each) => each.position === Number(event.key));
      if (found) chooseClass(found.id);
    },
  },
  { keys: ["."], label: "Next picture", run: () => go(1) },
  { keys: [","], label: "Previous picture", run: () => go(-1) },
  { keys: ["Enter"], label: "Done, and next picture", run: doneAndNext },
  { keys: ["u"], label: "Next unlabelled picture", run: nextUnlabelled },
  { keys: ["n"], label: "Nothing here", run: nothingHere },
  { keys: ["Tab"], label: "Choose the next box", run: () => boxes.value.length > 0 && ((selected.value = (selected.value + 1) % boxes.value.length), true) },
  { keys: ["Delete", "Backspace"], label: "Delete the chosen box", run: remove },
  { keys: ["Escape"], label: "Choose nothing, then back to the grid", run: escape },
  { keys: ["Ctrl+z"], label: "Undo", run: undo },
  { keys: ["Ctrl+Shift+Z", "Ctrl+Shift+z", "Ctrl+y"], label: "Redo", run: redo },
  ...(["ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown"] as const).flatMap((key, index): Key[] => {
    const [dx, dy] = [[-1, 0], [1, 0], [0, -1], [0, 1]][index] as [number, number];
    return [
      { keys: [key], label: "Move the chosen box by 1 pixel", hidden: index > 0, run: () => nudge(dx, dy) },
      { keys: [`Shift+${key}`], label: "Move it by 10 pixels", hidden: index > 0, run: () => nudge(10 * dx, 10 * dy) },
      { keys: [`Ctrl+${key}`], label: "Grow or shrink it by 1 pixel", hidden: index > 0, run: () => grow(dx, dy) },
    ];
  }),
];
useKeys(keys);

async function escape(): Promise<void> {
  if (selected.value >= 0) selected.value = -1;
  else await router.push({ path: `/project/${store.id}/collect`, query: route.query });
}
</script>

<template>
  <div class="label-view" data-test="label">
    <header class="bar">
      <router-link :to="{ path: `/project/${store.id}/collect`, query: $route.query }">All pictures</router-link>
      <span class="name">{{ picture?.name }}</span>
      <span v-if="picture" class="soft">{{ picture.width }}×{{ picture.height }} px</span>
      <span v-if="picture?.part" class="soft">{{ picture.part }}</span>
      <span class="spread" />
      <span class="save" :class="saving.state.value" data-test="save-state" role="status">
        <template v-if="saving.state.value === 'saved'">Saved</template>
        <template v-else-if="saving.state.value === 'offline'">Not saved: {{ saving.message.value }}. Trying again</template>
        <template v-else-if="saving.state.value === 'refused'">Not saved: {{ saving.message.value }}</template>
        <template v-else-if="saving.state.value === 'conflict'">Not saved: changed elsewhere</template>
        <template v-else>Saving</template>
      </span>
      <el-button-group>
        <el-button :disabled="!history.canUndo.value" data-test="undo" @click="undo">Undo</el-button>
        <el-button :disabled="!history.canRedo.value" data-test="redo" @click="redo">Redo</el-button>
      </el-button-group>
      <el-button-group>
        <el-button :disabled="place <= 0" data-test="previous" @click="go(-1)">Previous</el-button>
        <el-button :disabled="place < 0 || place >= ids.length - 1" data-test="next" @click="go(1)">Next</el-button>
      </el-button-group>
      <span class="soft">{{ place + 1 }} of {{ ids.length }}</span>
    </header>
    <p v-if="failed" class="view-body notice bad">{{ failed }}</p>
    <template v-else-if="picture">
      <PictureStage
        class="stage-area"
        :url="`/api/v1/pictures/${pictureId}/file`"
        :size="size"
        :shapes="shapes"
        :cursor="tool.cursor.value"
        :guides="tool.cursor.value === 'crosshair'"
        :label="`${picture.name} with ${count(boxes.length, 'box', 'boxes')}`"
        @press="tool.press"
        @drag="tool.drag"
        @release="tool.release"
        @hover="tool.hover"
      />
      <LabelPanel
        :boxes="boxes"
        :selected="selected"
        :active-class="activeClass"
        :state="state"
        @class="chooseClass"
        @select="selected = $event"
        @remove="remove"
        @empty="nothingHere"
        @done="doneAndNext"
        @next-unlabelled="nextUnlabelled"
      />
    </template>
    <el-dialog
      :model-value="saving.state.value === 'conflict'"
      title="This picture was changed elsewhere"
      width="480"
      :show-close="false"
      :close-on-click-modal="false"
      :close-on-press-escape="false"
    >
      <p>
        Here it has {{ count(boxes.length, "box", "boxes") }}; the version saved meanwhile has
        {{ count(saving.theirs.value?.boxes.length ?? 0, "box", "boxes") }}. Which one shall stay?
      </p>
      <template #footer>
        <el-button data-test="take-theirs" @click="takeTheirs">The saved one</el-button>
        <el-button type="primary" data-test="keep-mine" @click="saving.keepMine()">The one here</el-button>
      </template>
    </el-dialog>
  </div>
</template>

<style scoped>
.label-view { height: 100%; display: grid; grid-template: auto minmax(0, 1fr) / minmax(0, 1fr) 236px; }
.bar { grid-column: 1 / -1; display: flex; align-items: center; gap: 12px; padding: 8px 14px; border-bottom: 1px solid var(--rule); }
.name { font-weight: 600; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.spread { flex: 1; }
.save { font-size: 14px; color: var(--reed-deep); }
.save.waiting, .save.saving { color: var(--ink-soft); }
.save.offline, .save.refused, .save.conflict { color: var(--brick); }
.bar .soft { white-space: nowrap; }
</style>
