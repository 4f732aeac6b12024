<script setup lang="ts">
/** One picture: draw its boxes. Everything is saved by itself. */
import { computed, reactive, ref, shallowRef, watch } from "vue";
import { onBeforeRouteLeave, onBeforeRouteUpdate, useRoute, useRouter } from "vue-router";

import { api, type DrawnBox, type Labels, pictureUrl, take } from "@/api/client";
import { count } from "@/parts/format";
import PictureStage from "@/stage/PictureStage.vue";
import ClassPicker from "@/parts/classes/ClassPicker.vue";
import { complain, say, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";
import BoxDetails from "@/views/labels/BoxDetails.vue";
import { useBoxTool } from "@/views/labels/editing/boxTool";
import { useClassChoice } from "@/views/labels/editing/classChoice";
import ConflictDialog from "@/views/labels/ConflictDialog.vue";
import { type LabelActions, useLabelKeys } from "@/views/labels/editing/labelKeys";
import { useLabelling } from "@/views/labels/editing/labelling";
import LabelBar from "@/views/labels/LabelBar.vue";
import LabelPanel from "@/views/labels/LabelPanel.vue";
import { looks } from "@/views/labels/looks/looks";
import LooksPopover from "@/views/labels/looks/LooksPopover.vue";
import type { Turn } from "@/views/labels/editing/history";
import { sameBoxes } from "@/views/labels/saving/merging";
import ProposalsPanel from "@/views/labels/ProposalsPanel.vue";
import { useProposals } from "@/views/labels/editing/proposals";
import { useOpening } from "@/views/labels/editing/opening";
import { useSaving } from "@/views/labels/saving/saving";
import { useShapes } from "@/views/labels/editing/shapes";
import { useTightening } from "@/views/labels/editing/tightening";
import { pass, useSitting } from "@/views/labels/editing/sitting";
import StageMode from "@/views/labels/StageMode.vue";
import { forgetTyped, typedAhead } from "@/views/labels/editing/typedAhead";
import { useWalk } from "@/views/labels/editing/walk";

const route = useRoute();
const router = useRouter();
const store = useProject();

const pictureId = Number(route.params.picture);
const opening = useOpening(pictureId, {
  begin,
  renew: (labels) => saving.renewed(labels) && work.show(labels),
  also: () => walk.loadIds(),
});
const { picture, failed } = opening;
const onScreen = ref(false);
const previousBoxes = shallowRef<DrawnBox[]>([]);
const show = reactive({ ghosts: false, onlyChosen: false, none: false, looks: false, classes: false });
const stamping = ref(false);
const stage = ref<InstanceType<typeof PictureStage>>();
const panel = ref<InstanceType<typeof LabelPanel>>();

const size = computed(() => ({ width: picture.value?.width ?? 1, height: picture.value?.height ?? 1 }));
const work = useLabelling(store.id, pictureId, size, () => saving.touch());
const { boxes, state, selection, last } = work;
const saving = useSaving(
  pictureId,
  work.version,
  (labels, before, sent) => {
    const turned = work.saved(sent, labels);
    store.counted(before, labels);
    if (turned.length) classChoice.merged(turned).catch(complain);
  },
  () =>
    complain(
      new Error(
        saving.state.value === "conflict"
          ? `${picture.value?.name} was changed elsewhere meanwhile. Your boxes are kept in this browser; open it to choose.`
          : `${picture.value?.name} is not saved: ${saving.message.value}. Its boxes are kept in this browser.`,
      ),
    ),
);
const sitting = useSitting();
const { activeClass, lastSizes } = sitting;
const walk = useWalk(router, store.id, pictureId, route.query);
const { ids, place } = walk;
/** The picture is on screen: what is pressed is meant for it. */
const settled = computed(() => picture.value !== null && onScreen.value && !walk.leaving.value);

/** Boxes that the pointer can reach: in a pass only those of its class, and none that is hidden. */
const reachable = computed(() => {
  if (show.none) return new Set<number>();
  const places = boxes.value.map((_, place) => place);
  if (show.onlyChosen) return new Set(selection.value);
  return new Set(pass.value ? places.filter((place) => boxes.value[place]!.class_id === activeClass.value) : places);
});
const proposals = useProposals(pictureId, boxes, selection, (next) => work.change(next));
/** Outlines that a click takes over. */
const ghosts = computed(() =>
  show.none ? [] : [...(show.ghosts ? previousBoxes.value : []), ...proposals.ghosts.value],
);
/** The last size of the class, or an eighth of the picture. */
const usualSize = computed(() => {
  const side = Math.max(12, Math.min(size.value.width, size.value.height) / 8);
  return lastSizes.get(activeClass.value ?? 0) ?? { width: side, height: side };
});
const stamp = computed(() => (stamping.value ? usualSize.value : null));

const tool = useBoxTool({
  boxes,
  selection,
  reachable,
  ghosts,
  size,
  stamp,
  newClass: activeClassOrAsk,
  change: (next) => work.change(next),
  fresh: () => (classChoice.isFresh.value ? classChoice.drawn.value : -1),
  selected: () => (classChoice.drawn.value = -1),
  mayDraw,
  drew: (placed) => {
    classChoice.drawn.value = placed;
    if (stamping.value || looks.value.tighten) void work.tighten([placed]);
  },
});

const pen = computed(() => ({ width: looks.value.width, faint: looks.value.faint }));
const light = computed(() => ({ brightness: looks.value.brightness, contrast: looks.value.contrast }));

const tightening = useTightening(pictureId, boxes, (next) => work.change(next));

const shapes = useShapes({
  tighter: tightening,
  boxes,
  selection,
  reachable,
  previous: previousBoxes,
  proposed: proposals.shapes,
  show,
  activeClass,
  stamping,
  fresh: () => classChoice.isFresh.value,
  tool,
});

/** Show the labels that a picture has. */
function begin(labels: Labels): void {
  work.show(saving.start(labels) ?? labels);
  const turn = sitting.takePending(pictureId);
  if (turn) takeTurn(turn, labels);
  else selectNamed();
  sitting.chooseFirstClass();
}

/** Whoever came for one box finds it selected. */
function selectNamed(): void {
  const corners = (route.query.box as string | undefined)?.split(",").map(Number);
  const found = corners ? boxes.value.findIndex((box) => box.corners.every((each, at) => each === corners[at])) : -1;
  if (found >= 0) selection.value = [found];
}

function settle(shown: boolean): void {
  // What cannot be shown is not called done by what was pressed before.
  if (!shown) forgetTyped();
  onScreen.value = true;
}
watch([settled, place], () => settled.value && walk.lookAhead());

/** Undo or redo on this picture, as it was left; what somebody else made of it since is not undone unasked. */
function takeTurn(turn: Turn, labels: Labels): void {
  const stateChanged = turn.version.state !== turn.expected.state;
  if (sameBoxes(turn.expected.boxes, boxes.value)) {
    work.apply({ boxes: turn.version.boxes, state: stateChanged ? turn.version.state : state.value });
  } else {
    work.show(turn.version);
    saving.disagree(labels, turn.expected);
  }
}

async function loadPrevious(): Promise<void> {
  const before = ids.value[place.value - 1];
  if (before !== undefined) previousBoxes.value = await sitting.boxesOf(before);
}

watch(boxes, (now) => {
  for (const box of now) {
    const [x1, y1, x2, y2] = box.corners;
    lastSizes.set(box.class_id, { width: x2 - x1, height: y2 - y1 });
  }
});

function activeClassOrAsk(): number | null {
  if (activeClass.value === null) complain(new Error("Add a class first, in the panel on the right"));
  return activeClass.value;
}

const classChoice = useClassChoice({
  classes: () => store.classes,
  renewed: store.loadClasses,
  selection,
  ofNew: sitting.chooseClass,
  ofSelected: work.setClass,
});

/** Nobody draws into boxes that are hidden: they are shown again first. */
function mayDraw(): boolean {
  if (!show.none && !show.onlyChosen) return true;
  show.none = show.onlyChosen = false;
  say("Boxes were hidden; they are shown again, so that none is drawn twice");
  return false;
}

/** A box without the pointer's help: where the pointer rests, or in the middle of what is seen. */
function putBox(): void {
  const classId = activeClassOrAsk();
  const at = stage.value?.here();
  if (classId === null || !at || !mayDraw()) return;
  work.put(at, classId, usualSize.value);
  classChoice.drawn.value = last.value;
}

async function takeFromPrevious(): Promise<void> {
  try {
    await loadPrevious();
  } catch (error) {
    complain(error);
    return;
  }
  if (previousBoxes.value.length) work.takeOver(previousBoxes.value);
  else say("The previous picture has no boxes");
}

async function stepBack(direction: "undo" | "redo"): Promise<void> {
  const next = direction === "undo" ? work.history.nextUndo() : work.history.nextRedo();
  if (!next) return;
  (direction === "undo" ? work.history.undone : work.history.redone)();
  if (next.pictureId === pictureId) work.apply(next.version);
  else {
    sitting.setPending(next);
    await walk.goTo(next.pictureId, stayed);
  }
}

function nothingHere(): void {
  work.change([], state.value === "empty" ? "unlabelled" : "empty");
}

/** The way to another picture led back here. */
function stayed(refused: boolean): void {
  if (refused) forgetTyped();
}

const go = (step: number) => walk.go(step, stayed);

async function doneAndNext(): Promise<void> {
  const wanted = boxes.value.length ? "done" : "empty";
  const changes = state.value !== wanted;
  if (changes) work.change(boxes.value, wanted);
  // That there is nothing is a claim of its own, which a slip of the finger should not make unseen.
  if (changes && wanted === "empty") sayWithUndo(`${picture.value?.name}: no objects`, takeBackEmpty);
  await go(1);
}

/** That there is nothing was a slip: the picture is not labelled again, unless somebody has drawn on it since. */
async function takeBackEmpty(): Promise<void> {
  const params = { path: { picture_id: pictureId } };
  await saving.save();
  const { labels } = await take(api.GET("/api/v1/pictures/{picture_id}", { params }));
  if (labels.state !== "empty") return;
  const body = { revision: labels.revision, boxes: [], state: "unlabelled" as const, worked: 0 };
  const after = await take(api.PUT("/api/v1/pictures/{picture_id}/labels", { params, body }));
  store.counted(labels, after.labels);
}

async function nextUnlabelled(find = walk.nextUnlabelled): Promise<void> {
  walk.leaving.value = true;
  let next: number | undefined;
  try {
    await saving.save();
    next = await find();
  } catch (error) {
    complain(error);
    forgetTyped();
    walk.leaving.value = false;
    return;
  }
  if (next !== undefined) return walk.goTo(next, stayed);
  walk.leaving.value = false;
  say("No unlabelled picture is left here");
}

function select(index: number): void {
  selection.value = [index];
  classChoice.drawn.value = -1;
}

function selectNext(step: number): boolean {
  const places = boxes.value.map((_, index) => index).filter((index) => show.onlyChosen || reachable.value.has(index));
  if (!places.length) return false;
  const at = places.indexOf(last.value);
  selection.value = [places[(at + step + places.length) % places.length] ?? places[0]!];
  classChoice.drawn.value = -1;
  return true;
}

function selectAll(): void {
  selection.value = [...reachable.value];
  classChoice.drawn.value = -1;
}

async function escape(): Promise<void> {
  if (tool.cancel() || tightening.drop()) return;
  if (stamping.value) {
    stamping.value = false;
    tool.drawn.value = null;
  } else if (selection.value.length) selection.value = [];
  else await router.push(back.value);
}

/** Where this picture was opened from. */
const back = computed(() => {
  const from = route.query.from as string | undefined;
  if (from?.startsWith("/project/")) return from;
  return { path: `/project/${store.id}/collect`, query: { ...route.query, from: undefined, box: undefined } };
});

function keepMine(): void {
  void saving.keepMine();
}

function takeTheirs(): void {
  const mine = JSON.parse(JSON.stringify(work.version())) as { boxes: DrawnBox[]; state: Labels["state"] };
  const labels = saving.takeTheirs();
  work.show({ boxes: labels.boxes as DrawnBox[], state: labels.state });
  work.history.remember(pictureId, mine, work.version());
}

function keepBoth(): void {
  const { boxes: all, state: wanted } = saving.both();
  work.change(all, wanted);
}

function mayLeave(): boolean {
  if (saving.state.value === "refused" || saving.state.value === "conflict") {
    complain(new Error("These boxes are not saved yet. Stay here until they are, so that nothing is lost."));
    return false;
  }
  sitting.remember(pictureId, boxes.value);
  return true;
}
onBeforeRouteLeave(async () => {
  await saving.save();
  const may = mayLeave();
  // Whoever goes on labelling has counted along; whoever leaves gets the server's figures.
  if (may) void Promise.all([store.refresh(), store.loadClasses()]).catch(complain);
  return may;
});
// To the next picture nobody waits: what is not saved yet is a draft, and saved meanwhile.
onBeforeRouteUpdate(mayLeave);
// What is refused may be of a class that somebody has just retired.
watch(saving.state, (now) => now === "refused" && void store.loadClasses().catch(complain));
watch(
  () => show.ghosts,
  (on) => on && void loadPrevious().catch(complain),
);
const actions: LabelActions = {
  digit: (typed) => classChoice.digit(typed),
  digitOfBoxes: classChoice.digitOfSelected,
  zero: () => classChoice.zero() || stage.value?.fit(),
  findClass: () => (show.classes = true),
  toggleFlag: (number) => {
    const flags = store.attributes.filter((each) => each.kind === "flag");
    const flag = flags[number - 1];
    if (flag && work.chosen.value) work.setAttribute(flag.name, work.chosen.value.attributes[flag.name] !== true);
  },
  next: () => go(1),
  previous: () => go(-1),
  doneAndNext,
  nextUnlabelled: () => nextUnlabelled(),
  leastSure: () => nextUnlabelled(walk.leastSure),
  nothingHere,
  selectNext: () => selectNext(1),
  selectPrevious: () => selectNext(-1),
  selectAll,
  remove: work.remove,
  escape,
  undo: () => stepBack("undo"),
  redo: () => stepBack("redo"),
  nudge: work.nudge,
  grow: work.grow,
  duplicate: work.duplicate,
  copy: work.copy,
  paste: work.paste,
  fromPrevious: takeFromPrevious,
  ghosts: () => (show.ghosts = !show.ghosts),
  putBox,
  tighten: () => tightening.press(selection.value),
  tightenAll: () => tightening.press([]),
  stamp: () => {
    stamping.value = !stamping.value;
    tool.cancel();
    tool.drawn.value = null;
  },
  pass: () => (pass.value = !pass.value),
  hideOthers: () => (show.onlyChosen = !show.onlyChosen),
  hideAll: () => (show.none = !show.none),
  looks: () => (show.looks = !show.looks),
};
useLabelKeys(typedAhead(actions, settled));

opening.openAtOnce();
</script>

<template>
  <div class="label-view" data-test="label">
    <LabelBar
      :back="back"
      :picture="picture"
      :saving="saving.state.value"
      :refusal="saving.message.value"
      :can-undo="work.history.canUndo.value"
      :can-redo="work.history.canRedo.value"
      :first="!walk.leads(-1)"
      :last="!walk.leads(1)"
      :place="place"
      :total="ids.length"
      @undo="stepBack('undo')"
      @redo="stepBack('redo')"
      @go="go">
      <LooksPopover v-model:open="show.looks" />
    </LabelBar>
    <p v-if="failed" class="view-body notice bad" data-test="unreachable">
      {{ failed }}. What was drawn is kept in this browser and sent as soon as the server answers.
      <el-button link type="primary" @click="opening.load">Try again</el-button>
    </p>
    <template v-else-if="picture">
      <div class="stage-area">
        <PictureStage
          ref="stage"
          class="whole"
          :url="pictureUrl(picture)"
          :size="size"
          :shapes="shapes"
          :cursor="tool.cursor.value"
          :guides="tool.cursor.value === 'crosshair'"
          :pen="pen"
          :light="light"
          :label="`${picture.name} with ${count(boxes.length, 'box', 'boxes')}`"
          @press="tool.press"
          @drag="tool.drag"
          @release="tool.release"
          @hover="tool.hover"
          @settled="settle" />
        <StageMode
          :corner="tool.corner.value !== null"
          :stamping="stamping"
          :tighter="tightening.open.value.length"
          :show="show"
          :pass="pass ? (store.classById.get(activeClass ?? 0)?.name ?? '') : ''" />
      </div>
      <LabelPanel
        ref="panel"
        :boxes="boxes"
        :selection="selection"
        :active-class="activeClass"
        :state="state"
        :stamping="stamping"
        :fresh="classChoice.isFresh.value"
        @find-class="show.classes = true"
        @class="classChoice.choose"
        @select="select($event)"
        @remove="work.remove"
        @empty="nothingHere"
        @done="doneAndNext"
        @next-unlabelled="nextUnlabelled()"
        @tighten="tightening.press(selection)"
        @stamp="stamping = !stamping"
        @from-previous="takeFromPrevious">
        <ProposalsPanel
          v-model:least="proposals.least.value"
          :open="proposals.open.value.length"
          :all="proposals.all.value.length"
          :unknown="proposals.unknown.value"
          @keep="proposals.keepAll"
          @refuse="proposals.refuseAll"
          @least-sure="nextUnlabelled(walk.leastSure)" />
        <BoxDetails
          v-if="work.chosen.value"
          :box="work.chosen.value"
          :others="selection.length - 1"
          :size="size"
          @attribute="work.setAttribute" />
      </LabelPanel>
    </template>
    <ClassPicker
      v-model:open="show.classes"
      title="Class"
      adds
      @pick="classChoice.choose"
      @add="panel?.addClass($event)" />
    <ConflictDialog
      v-if="saving.state.value === 'conflict' && picture"
      :picture="picture"
      :mine="boxes"
      :theirs="(saving.theirs.value?.boxes ?? []) as DrawnBox[]"
      @mine="keepMine"
      @theirs="takeTheirs"
      @both="keepBoth" />
  </div>
</template>

<style scoped>
.label-view {
  height: 100%;
  display: grid;
  grid-template: auto minmax(0, 1fr) / minmax(0, 1fr) 236px;
}
.stage-area {
  position: relative;
  display: grid;
  min-width: 0;
  min-height: 0;
}
.whole {
  width: 100%;
  height: 100%;
}
</style>
