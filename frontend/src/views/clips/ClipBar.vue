<script setup lang="ts">
/** Above the stage: which clip and frame it is, whether it is saved, playing and stepping. */
import type { RouteLocationRaw } from "vue-router";

import type { ClipDetail } from "@/api/client";
import { SPEEDS } from "@/views/clips/editing/playing";
import type { SaveState } from "@/views/labels/saving/saving";
import SaveNote from "@/views/labels/saving/SaveNote.vue";

const props = defineProps<{
  clip: ClipDetail;
  back: RouteLocationRaw;
  saving: SaveState;
  refusal: string;
  frame: number;
  playing: boolean;
  canUndo: boolean;
  canRedo: boolean;
}>();
const speed = defineModel<number>("speed", { required: true });
const emit = defineEmits<{
  undo: [];
  redo: [];
  play: [];
  step: [by: number];
  go: [frame: number];
  frames: [];
  export: [];
}>();

function faster(by: 1 | -1): void {
  const at = SPEEDS.findIndex((each) => each === speed.value);
  speed.value = SPEEDS[Math.min(Math.max(at + by, 0), SPEEDS.length - 1)]!;
}
defineExpose({ faster });

function typed(value: number | undefined): void {
  if (value !== undefined && value !== props.frame) emit("go", value);
}
</script>

<template>
  <header class="bar">
    <router-link :to="back">{{ $route.query.from ? "Back" : "All clips" }}</router-link>
    <span class="name">{{ clip.name }}</span>
    <el-button-group>
      <el-button v-hint="'Previous frame'" aria-label="Previous frame" @click="emit('step', -1)">‹</el-button>
      <el-button v-hint="'Play or pause the clip'" class="play" data-test="play" @click="emit('play')">{{
        playing ? "Pause" : "Play"
      }}</el-button>
      <el-button v-hint="'Next frame'" aria-label="Next frame" data-test="next-frame" @click="emit('step', 1)"
        >›</el-button
      >
    </el-button-group>
    <el-select v-model="speed" class="speed" aria-label="Speed">
      <el-option v-for="each in SPEEDS" :key="each" :value="each" :label="`${each}×`" />
    </el-select>
    <span class="frame" data-test="frame" :data-frame="frame">
      Frame
      <el-input-number
        :model-value="frame"
        :min="0"
        :max="clip.times.length - 1"
        :controls="false"
        size="small"
        aria-label="Frame"
        @change="typed" />
      <span class="soft">of {{ clip.times.length }} · {{ (clip.times[frame] ?? 0).toFixed(2) }} s</span>
    </span>
    <span class="spread" />
    <SaveNote class="save" :saving="saving" :refusal="refusal" />
    <el-button
      v-hint="'Into pictures, or objects: how the clip is labelled'"
      data-test="take-frames"
      @click="emit('frames')"
      >Choose frames</el-button
    >
    <el-button v-hint="'Export the objects'" data-test="export-tracks" @click="emit('export')">Export</el-button>
    <el-button-group>
      <el-button v-hint="'Undo'" :disabled="!canUndo" data-test="undo" @click="emit('undo')">Undo</el-button>
      <el-button v-hint="'Redo'" :disabled="!canRedo" data-test="redo" @click="emit('redo')">Redo</el-button>
    </el-button-group>
  </header>
</template>

<style scoped>
.bar {
  grid-column: 1 / -1;
  display: flex;
  align-items: center;
  gap: 10px;
  padding: 8px 14px;
  border-bottom: 1px solid var(--rule);
  white-space: nowrap;
}
.bar :deep(.el-button) {
  padding: 8px 10px;
  margin: 0;
}
.bar :deep(.el-button-group) {
  display: flex;
  flex: none;
}
.name {
  font-weight: 600;
  overflow: hidden;
  text-overflow: ellipsis;
}
.bar :deep(.play) {
  width: 60px;
}
.speed {
  width: 72px;
  flex: none;
}
.frame {
  display: flex;
  align-items: center;
  gap: 6px;
}
.frame :deep(.el-input-number) {
  width: 58px;
}
.spread {
  flex: 1;
}
.save {
  flex: 0 10 auto;
  min-width: 48px;
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
