<script setup lang="ts">
/** The desk on which a clip is labelled: its frame with trails, strips under it, the selected object beside it. */
import { computed, reactive, ref, watch } from "vue";
import { onBeforeRouteLeave, useRoute, useRouter } from "vue-router";

import type { ClipDetail, TrackList } from "@/api/client";
import ClassPicker from "@/parts/classes/ClassPicker.vue";
import { count } from "@/parts/format";
import type { Point } from "@/stage/geometry";
import { moved } from "@/stage/geometry";
import PictureStage from "@/stage/PictureStage.vue";
import { complain, say } from "@/state/notes";
import { useProject } from "@/state/project";
import ClipChoice from "@/views/clips/ClipChoice.vue";
import ClipBar from "@/views/clips/ClipBar.vue";
import ClipPicture from "@/views/clips/ClipPicture.vue";
import ExportTracks from "@/views/clips/ExportTracks.vue";
import ProposeTracks from "@/views/clips/ProposeTracks.vue";
import TrackConflict from "@/views/clips/TrackConflict.vue";
import TrackPanel from "@/views/clips/TrackPanel.vue";
import TrackStrips from "@/views/clips/TrackStrips.vue";
import { useClipBoxes } from "@/views/clips/editing/clipBoxes";
import { type ClipActions, useClipKeys } from "@/views/clips/editing/clipKeys";
import * as trajectory from "@/views/clips/editing/trajectory";
import { useFollowing } from "@/views/clips/editing/following";
import { useFrames } from "@/views/clips/editing/frames";
import { usePlaying } from "@/views/clips/editing/playing";
import { useTracks } from "@/views/clips/editing/tracks";
import { dotAt, trailsLayer } from "@/views/clips/editing/trail";
import { useTrackSaving } from "@/views/clips/saving/trackSaving";
import { useClassChoice } from "@/views/labels/editing/classChoice";
import StageMode from "@/views/labels/StageMode.vue";
import { useSitting } from "@/views/labels/editing/sitting";

const props = defineProps<{ clip: ClipDetail; tracks: TrackList }>();
const emit = defineEmits<{ chosen: [] }>();
const route = useRoute();
const router = useRouter();
const store = useProject();

const size = { width: props.clip.width, height: props.clip.height };
const show = reactive({ trails: true, classes: false, propose: false, frames: false, export: false });
const forWhole = ref(true);
const stage = ref<InstanceType<typeof PictureStage>>();

const frames = useFrames(props.clip.id, size, props.clip.times.length);
const playing = usePlaying(props.clip.times, (each) => frames.at(each) !== undefined || frames.failed.value.has(each));
const { frame } = playing;
watch(frame, (now) => {
  frames.go(now);
  // On another frame the object that was just drawn is there to be adjusted.
  classChoice.drawn.value = -1;
});

const tracks = useTracks(
  props.clip.id,
  () => saving.touch(),
  (clashes) => saving.disagree(clashes),
);
const saving = useTrackSaving(props.clip.id, {
  read: () => tracks.all.value,
  show: tracks.show,
  renumber: tracks.renumber,
});
tracks.show(saving.start(props.tracks));
const sitting = useSitting();
sitting.chooseFirstClass();
const { activeClass } = sitting;
const following = useFollowing(props.clip.id, tracks, frame);

const shownTracks = computed(() => [...tracks.kept.value, ...tracks.proposed.value]);
const classChoice = useClassChoice({
  classes: () => store.classes,
  renewed: store.loadClasses,
  selection: computed(() => tracks.chosen.value),
  ofNew: sitting.chooseClass,
  ofSelected: (classId) =>
    tracks.each((track) => (track.class_id === classId ? null : { ...track, class_id: classId })),
});
const boxes = useClipBoxes({
  tracks,
  frame,
  size,
  activeClass,
  newClass: activeClassOrAsk,
  drawn: classChoice.drawn,
});
const { tool } = boxes;

/** Frames that a person should look at, with whose they are. */
const doubts = computed(() =>
  shownTracks.value
    .flatMap((track) => track.unsure.map((at) => ({ at, number: track.number })))
    .sort((a, b) => a.at - b.at || a.number - b.number),
);
const interesting = computed(() =>
  trajectory.places(tracks.selected.value.length ? tracks.selected.value : tracks.kept.value),
);

function activeClassOrAsk(): number | null {
  if (activeClass.value === null) complain(new Error("Add a class first, under Collect, Classes"));
  return activeClass.value;
}
// The stage: dots of the selected trails are taken hold of before boxes are.
const held = ref<{ number: number; frame: number; from: Point; now: Point } | null>(null);
const movedTracks = computed(() => {
  const dot = held.value;
  return tracks.selected.value.map((track) => (dot && track.number === dot.number ? withDotMoved(track, dot) : track));
});
function withDotMoved(track: trajectory.Track, dot: NonNullable<typeof held.value>): trajectory.Track {
  const set = trajectory.setAt(track, dot.frame)!;
  const [dx, dy] = [dot.now.x - dot.from.x, dot.now.y - dot.from.y];
  if (!dx && !dy) return track;
  return trajectory.setBox(track, dot.frame, moved(set.corners, dx, dy, size.width, size.height));
}
const layer = computed(() =>
  trailsLayer({
    others: show.trails ? boxes.here.value.filter((each) => !tracks.chosen.value.includes(each.number)) : [],
    selected: movedTracks.value,
    colour: (classId) => store.classById.get(classId)?.colour ?? "#A9B8C9",
    frame: frame.value,
  }),
);
function press(point: Point, event: PointerEvent, reach: number): void {
  playing.playing.value = false;
  for (const track of [...tracks.selected.value].reverse()) {
    const at = event.shiftKey || track.standing === "proposed" ? null : dotAt(track, point, reach, frame.value);
    if (at === null) continue;
    held.value = { number: track.number, frame: at, from: point, now: point };
    return;
  }
  tool.press(point, event, reach);
}
function drag(point: Point): void {
  if (held.value) held.value = { ...held.value, now: point };
  else tool.drag(point);
}
function release(point: Point, event: PointerEvent): void {
  const dot = held.value;
  held.value = null;
  if (!dot) return tool.release(point, event);
  const track = tracks.all.value.get(dot.number);
  // A click on a dot goes there.
  if (dot.now.x === dot.from.x && dot.now.y === dot.from.y) playing.go(dot.frame);
  else if (track) tracks.change([[dot.number, withDotMoved(track, dot)]]);
}

function nextOf(list: readonly number[], direction: 1 | -1): void {
  const next = direction > 0 ? list.find((each) => each > frame.value) : list.findLast((each) => each < frame.value);
  if (next === undefined) say(direction > 0 ? "None further on" : "None before");
  else playing.go(next);
}
function nextDoubt(): void {
  const list = doubts.value;
  // Several objects may be unsure on one frame: they come in turn.
  const number = tracks.chosen.value.at(-1) ?? 0;
  const isLater = (each: { at: number; number: number }): boolean =>
    each.at > frame.value || (each.at === frame.value && each.number > number);
  const next = list.find(isLater) ?? list[0];
  if (!next) return say("No place is unsure");
  playing.go(next.at);
  tracks.chosen.value = [next.number];
}
/** Where a person sets the box it is sure from then on. */
const setHere = (): boolean => boxes.turn((corners) => corners);
function select(direction: 1 | -1): boolean {
  const list = boxes.here.value;
  if (!list.length) return false;
  const at = list.findIndex((each) => each.number === tracks.chosen.value.at(-1));
  choose(list[(at + direction + list.length) % list.length]!.number, false);
  return true;
}
function part(): void {
  const track = tracks.last.value;
  const number = tracks.freshNumber();
  const parts = track && trajectory.partAt(track, frame.value, number);
  if (!track || !parts) return say("Go to a frame in the midst of the object's sight first");
  tracks.change([
    [track.number, parts[0]],
    [number, parts[1]],
  ]);
  tracks.chosen.value = [number];
}
function join(): void {
  const [one, other] = tracks.selected.value;
  if (!one || !other || tracks.selected.value.length !== 2) return say("Select two objects with Ctrl first");
  const whole = trajectory.joined(one, other);
  tracks.change([
    [whole.number, whole],
    [whole.number === one.number ? other.number : one.number, null],
  ]);
  tracks.chosen.value = [whole.number];
}
/** A change that may have no meaning on this frame says so. */
function turnOrSay(turn: (track: trajectory.Track) => trajectory.Track | null, words: string): void {
  if (!tracks.selected.value.length) say("Select an object first");
  else if (!tracks.each(turn)) say(words);
}
const hold = (): boolean =>
  tracks.each((track) => {
    const set = trajectory.setAt(track, frame.value);
    const other = { ...set!, held: !set?.held };
    return set ? { ...track, sets: track.sets.map((each) => (each === set ? other : each)) } : null;
  });
function setEnd(number: number, span: number, which: 0 | 1, at: number): void {
  const track = tracks.all.value.get(number);
  if (track) tracks.change([[number, trajectory.withEnd(track, span, which, at)]]);
}
function choose(number: number, add: boolean): void {
  classChoice.drawn.value = -1;
  const rest = tracks.chosen.value.filter((each) => each !== number);
  tracks.chosen.value = add ? (rest.length < tracks.chosen.value.length ? rest : [...rest, number]) : [number];
}
const proposals = (all: boolean): trajectory.Track[] =>
  all ? tracks.proposed.value : tracks.selected.value.filter((each) => each.standing === "proposed");
/** Keep or refuse, and go on to the next one that waits; says whether there was any. */
function settle(all: boolean, standing: "kept" | "refused"): boolean {
  const some = proposals(all);
  if (!some.length) return false;
  tracks.stand(some, standing);
  const next = tracks.proposed.value[0];
  tracks.chosen.value = next && !all ? [next.number] : [];
  if (next && !all && !trajectory.isInSight(next, frame.value)) playing.go(trajectory.firstFrame(next));
  return true;
}
/** Arrows are for proposals only where one is selected. */
const settled = (all: boolean, standing: "kept" | "refused") => (): boolean =>
  proposals(false).length > 0 && settle(all, standing);

/** Proposals that came are fetched; what is not saved yet goes first. */
async function renew(): Promise<void> {
  await saving.save();
  await saving.renew();
  const first = tracks.proposed.value[0];
  if (first) {
    tracks.chosen.value = [first.number];
    playing.go(trajectory.firstFrame(first));
  }
}

function escape(): unknown {
  if (following.jobId.value) return following.stop();
  if (tool.cancel()) return undefined;
  if (tracks.chosen.value.length) return (tracks.chosen.value = []);
  return router.push(back.value);
}
const back = computed(() => {
  const from = route.query.from as string | undefined;
  return from?.startsWith("/project/") ? from : `/project/${store.id}/collect/clips`;
});

const actions: ClipActions = {
  digit: (typed) => classChoice.digit(typed),
  digitOfSelected: classChoice.digitOfSelected,
  zero: () => classChoice.zero() || stage.value?.fit(),
  findClass: () => (show.classes = true),
  toggleFlag: (number) => {
    const flag = store.attributes.filter((each) => each.kind === "flag")[number - 1];
    if (flag && tracks.last.value)
      attribute(flag.name, trajectory.attributesAt(tracks.last.value, frame.value)[flag.name] !== true);
  },
  step: playing.step,
  dot: (direction) =>
    nextOf(
      [...new Set(tracks.selected.value.flatMap((track) => track.sets.map((each) => each.frame)))].sort(
        (a, b) => a - b,
      ),
      direction,
    ),
  place: (direction) => nextOf(interesting.value, direction),
  unsure: nextDoubt,
  edge: (which) => {
    const some = tracks.selected.value;
    const { first, last } = props.clip;
    if (which === "first") playing.go(some.length ? Math.min(...some.map(trajectory.firstFrame)) : first);
    else playing.go(some.length ? Math.max(...some.map(trajectory.lastFrame)) : (last ?? playing.last));
  },
  play: playing.toggle,
  faster: (by) => bar.value?.faster(by),
  setHere,
  unset: () =>
    turnOrSay((track) => trajectory.unset(track, frame.value), "Its box was not set here, or is its only one"),
  hold,
  begin: () => turnOrSay((track) => trajectory.beginHere(track, frame.value), "It begins here already"),
  end: () => turnOrSay((track) => trajectory.endHere(track, frame.value), "It ends here already"),
  hide: () =>
    turnOrSay((track) => trajectory.hideFrom(track, frame.value), "It would never be in sight; delete it instead"),
  show: () => turnOrSay((track) => trajectory.showFrom(track, frame.value), "It is in sight here"),
  part,
  join,
  removeAll: tracks.remove,
  follow: (backwards) => following.follow(backwards),
  propose: () => (show.propose = true),
  select,
  selectAll: () => (tracks.chosen.value = boxes.here.value.map((each) => each.number)),
  keep: settled(false, "kept"),
  refuse: settled(false, "refused"),
  keepAll: settled(true, "kept"),
  refuseAll: settled(true, "refused"),
  restore: () => tracks.stand(tracks.refused.value, "proposed"),
  nudge: boxes.nudge,
  grow: boxes.grow,
  putBox: () => {
    const at = stage.value?.here();
    if (at) boxes.put(at, Math.max(12, Math.min(size.width, size.height) / 8));
  },
  trails: () => (show.trails = !show.trails),
  frames: () => (show.frames = true),
  export: () => (show.export = true),
  escape,
  undo: tracks.undo,
  redo: tracks.redo,
};
useClipKeys(actions);
const bar = ref<InstanceType<typeof ClipBar>>();

function attribute(name: string, value: unknown): void {
  tracks.each((track) => trajectory.withAttribute(track, frame.value, name, value, forWhole.value));
}

onBeforeRouteLeave(async () => {
  await saving.save();
  const unsaved = saving.state.value === "refused" || saving.state.value === "conflict";
  if (unsaved)
    complain(new Error("These objects are not saved yet. Stay here until they are, so that nothing is lost."));
  return !unsaved;
});
frames.go(0);
</script>

<template>
  <div class="desk" data-test="clip-desk">
    <ClipBar
      ref="bar"
      v-model:speed="playing.speed.value"
      :clip="clip"
      :back="back"
      :saving="saving.state.value"
      :refusal="saving.message.value"
      :frame="frame"
      :playing="playing.playing.value"
      :can-undo="tracks.history.canUndo.value"
      :can-redo="tracks.history.canRedo.value"
      @undo="tracks.undo"
      @redo="tracks.redo"
      @play="playing.toggle"
      @step="playing.step"
      @go="playing.go"
      @frames="show.frames = true"
      @export="show.export = true" />
    <div class="stage-area">
      <PictureStage
        ref="stage"
        class="whole"
        space-taken
        :size="size"
        :shapes="boxes.shapes.value"
        :layer="layer"
        :cursor="tool.cursor.value"
        :guides="tool.cursor.value === 'crosshair'"
        :label="`Frame ${frame} of ${clip.name} with ${count(boxes.here.value.length, 'box', 'boxes')}`"
        @press="press"
        @drag="drag"
        @release="release"
        @hover="tool.hover">
        <template #picture="{ placed }">
          <ClipPicture
            :size="size"
            :frame="frame"
            :data-ahead="frames.came.value && frames.ahead(frame)"
            :bitmap="frames.at(frame)"
            :version="frames.came.value"
            :whole="frames.whole || playing.playing.value ? '' : frames.address(frame, 0)"
            :placed="placed" />
        </template>
      </PictureStage>
      <StageMode :corner="tool.corner.value !== null" />
      <p v-if="frames.failed.value.get(frame)" class="over" data-test="frame-failed">
        {{ frames.failed.value.get(frame) }}
        <el-button link type="primary" @click="frames.again(frame)">Try again</el-button>
      </p>
    </div>
    <TrackPanel
      v-model:for-all="forWhole"
      :frame="frame"
      :tracks="tracks.kept.value"
      :proposed="tracks.proposed.value"
      :refused="tracks.refused.value.length"
      :selected="tracks.selected.value"
      :active-class="activeClass"
      :unsure="doubts.length"
      :labour="saving.labour.value"
      :following="following.job.value ?? (following.jobId.value ? { done: 0, total: 0 } : null)"
      @class="classChoice.choose"
      @find-class="show.classes = true"
      @follow="(backwards) => following.follow(backwards)"
      @stop="following.stop"
      @set="setHere"
      @unset="actions.unset"
      @hold="hold"
      @begin="actions.begin"
      @end="actions.end"
      @hide="actions.hide"
      @show="actions.show"
      @part="part"
      @join="join"
      @remove="tracks.remove"
      @unsure="nextDoubt"
      @propose="show.propose = true"
      @keep="(all) => settle(all, 'kept')"
      @refuse="(all) => settle(all, 'refused')"
      @restore="actions.restore"
      @attribute="attribute" />
    <TrackStrips
      class="strips"
      :clip-id="clip.id"
      :size="size"
      :times="clip.times"
      :counts="[clip.first, clip.last ?? clip.times.length - 1]"
      :tracks="shownTracks"
      :selected="tracks.chosen.value"
      :frame="frame"
      @go="playing.go"
      @select="choose"
      @ends="setEnd"
      @follow-to="(at) => following.follow(at < frame, at)" />
    <ClassPicker v-model:open="show.classes" title="Class" @pick="classChoice.choose" />
    <ProposeTracks v-model="show.propose" :clip="clip" @proposed="renew" />
    <ClipChoice
      v-model="show.frames"
      :clip="clip"
      :objects="tracks.kept.value.length"
      :before="saving.save"
      @chosen="emit('chosen')"
      @gathered="renew" />
    <ExportTracks v-model="show.export" :clip="clip" :before="saving.save" @taken="renew" />
    <TrackConflict :conflict="saving.conflict.value" @settle="saving.settle" />
  </div>
</template>

<style scoped>
.desk {
  height: 100%;
  display: grid;
  grid-template: auto minmax(0, 1fr) 200px / minmax(0, 1fr) 236px;
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
.strips {
  grid-column: 1 / -1;
}
.over {
  position: absolute;
  inset: 10px auto auto 50%;
  transform: translateX(-50%);
  padding: 4px 12px;
  background: var(--paper);
  border: 1px solid var(--sand);
}
</style>
