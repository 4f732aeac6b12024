<script setup lang="ts">
/** A clip with its boxes, drawn by the page over the clip itself: played, stepped, and gone to from its course. */
import { computed, onBeforeUnmount, onMounted, ref, watch } from "vue";

import type { ClipSpan, Counted, Timeline } from "@/api/client";
import { useKeys } from "@/state/keys";
import BoxOverlay from "@/parts/BoxOverlay.vue";
import FittedPicture from "@/parts/FittedPicture.vue";
import type { Found } from "@/views/use/results/found";
import ShapeLayer from "@/views/use/results/ShapeLayer.vue";
import TimeStrips from "@/views/use/results/TimeStrips.vue";

const props = defineProps<{
  detectionId: number;
  number: number;
  clip: ClipSpan;
  timeline: Timeline;
  at: Found["at"];
  line: number;
  captions: boolean;
  counted: Counted[];
  drawing: "line" | "region" | null;
  chosenShape: number | null;
}>();
const place = defineModel<number>("place", { required: true });
const object = defineModel<number>("object", { required: true });
const emit = defineEmits<{ drawn: [kind: "line" | "region", points: [number, number][]]; giveUp: [] }>();

const video = ref<HTMLVideoElement>();
const layer = ref<InstanceType<typeof ShapeLayer>>();
const playing = ref(false);
/** Browsers play few kinds of clips; of the others frames are fetched one by one. */
const plays = ref(true);
let watching = 0;

const index = computed(() => Math.min(Math.max(place.value - props.clip.first, 0), props.clip.frames - 1));
const seconds = computed(() => props.clip.seconds[index.value] ?? 0);
const row = computed(() => props.at(props.clip.first + index.value));
const step = computed(() => {
  const { seconds: all } = props.clip;
  return all.length > 1 ? (all.at(-1)! - all[0]!) / (all.length - 1) : 0.04;
});
const address = computed(() => `/api/v1/detections/${props.detectionId}/clip?clip=${props.number}`);
const still = computed(
  () => `/api/v1/detections/${props.detectionId}/pictures/${props.clip.first + index.value}/pixels`,
);

/** The last frame that is shown no later than a moment. */
function frameAt(time: number): number {
  const { seconds: all } = props.clip;
  let [low, high] = [0, all.length - 1];
  while (low < high) {
    const middle = (low + high + 1) >> 1;
    if (all[middle]! <= time + step.value * 0.25) low = middle;
    else high = middle - 1;
  }
  return low;
}
/** Follow the frame that is on screen, not the clock: boxes then lie where they belong while it plays. */
function follow(): void {
  const target = video.value;
  if (!target) return;
  watching = target.requestVideoFrameCallback((_, { mediaTime }) => {
    if (playing.value) place.value = props.clip.first + frameAt(mediaTime);
    follow();
  });
}
function show(which: number): void {
  place.value = props.clip.first + Math.min(Math.max(which, 0), props.clip.frames - 1);
}
function pause(): void {
  video.value?.pause();
  // The event that says so comes later, and until then the clip would not go where it is sent.
  playing.value = false;
}
function move(by: number): void {
  pause();
  show(index.value + by);
}
function play(): void {
  const target = video.value;
  if (!target || !plays.value) return;
  if (target.paused) void target.play();
  else target.pause();
}
function go(which: number): void {
  pause();
  place.value = which;
}
defineExpose({ go });

watch(seconds, (now) => {
  // Into the middle of the frame: at its very beginning some browsers still show the one before.
  if (!playing.value && video.value) video.value.currentTime = now + step.value * 0.5;
});
function ready(): void {
  if (video.value) video.value.currentTime = seconds.value + step.value * 0.5;
}
function leave(event: Event): void {
  if (props.drawing && event instanceof KeyboardEvent) {
    layer.value?.forget();
    emit("giveUp");
  }
}
onMounted(follow);
onBeforeUnmount(() => video.value?.cancelVideoFrameCallback(watching));
useKeys([
  { keys: [" "], label: "Play or pause the clip", run: play },
  { keys: ["ArrowRight"], label: "Next frame", run: () => move(1) },
  { keys: ["ArrowLeft"], label: "Previous frame", run: () => move(-1) },
  { keys: ["Shift+ArrowRight"], label: "Ten frames on", run: () => move(10) },
  { keys: ["Shift+ArrowLeft"], label: "Ten frames back", run: () => move(-10) },
  { keys: ["Home"], label: "First frame", run: () => show(0) },
  { keys: ["End"], label: "Last frame", run: () => show(props.clip.frames - 1) },
  { keys: ["Enter"], label: "Close the region", run: () => (props.drawing ? layer.value?.finish() : false) },
  { keys: ["Escape"], label: "Leave drawing", run: leave },
]);
</script>

<template>
  <div class="clip">
    <FittedPicture :width="clip.width" :height="clip.height">
      <video
        v-if="plays"
        ref="video"
        :src="address"
        muted
        playsinline
        preload="auto"
        data-test="clip"
        @loadeddata="ready"
        @play="playing = true"
        @pause="playing = false"
        @click="play"
        @error="plays = false" />
      <img v-else :src="still" :alt="`${clip.name} at ${seconds.toFixed(2)} s`" data-test="still" />
      <BoxOverlay
        v-if="row"
        :picture="row"
        :classes="timeline.classes"
        :line="line"
        :captions="captions"
        :mark="object || undefined" />
      <ShapeLayer
        ref="layer"
        :size="clip"
        :counted="counted"
        :drawing="drawing"
        :chosen="chosenShape"
        @drawn="(points) => emit('drawn', drawing!, points)" />
    </FittedPicture>
    <div class="bar">
      <el-button-group>
        <el-button v-hint="'Previous frame'" size="small" aria-label="Previous frame" @click="move(-1)">‹</el-button>
        <el-button v-if="plays" v-hint="'Play or pause the clip'" size="small" data-test="play" @click="play">{{
          playing ? "Pause" : "Play"
        }}</el-button>
        <el-button v-hint="'Next frame'" size="small" aria-label="Next frame" data-test="next-frame" @click="move(1)"
          >›</el-button
        >
      </el-button-group>
      <span data-test="frame"
        >Frame {{ row?.frame ?? index }} <span class="soft">{{ seconds.toFixed(2) }} s</span></span
      >
      <span class="soft">{{ row ? `${row.boxes.length} boxes` : "" }}</span>
      <span v-if="!plays" class="soft">This browser cannot play this kind of clip; it is shown frame by frame.</span>
    </div>
    <TimeStrips :timeline="timeline" :clip="clip" :place="clip.first + index" @go="go" />
  </div>
</template>

<style scoped>
.clip {
  display: grid;
  grid-template-rows: minmax(0, 1fr) auto auto;
  min-width: 0;
  min-height: 0;
}
.bar {
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 6px 12px;
  border-top: 1px solid var(--rule);
}
</style>
