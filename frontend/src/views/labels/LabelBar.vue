<script setup lang="ts">
/** Above the stage: which picture it is, whether it is saved, and the ways on and back. */
import type { RouteLocationRaw } from "vue-router";

import type { Picture } from "@/api/client";
import type { SaveState } from "@/views/labels/saving/saving";
import SaveNote from "@/views/labels/saving/SaveNote.vue";

defineProps<{
  back: RouteLocationRaw;
  picture: Picture | null;
  saving: SaveState;
  /** Why it is not saved. */
  refusal: string;
  canUndo: boolean;
  canRedo: boolean;
  /** Whether a picture comes before it, and after it. */
  first: boolean;
  last: boolean;
  place: number;
  total: number;
}>();
const emit = defineEmits<{ undo: []; redo: []; go: [step: number] }>();
</script>

<template>
  <header class="bar">
    <router-link :to="back">{{ $route.query.from ? "Back" : "All pictures" }}</router-link>
    <span class="name">{{ picture?.name }}</span>
    <span v-if="picture" class="soft">{{ picture.width }}×{{ picture.height }} px</span>
    <span v-if="picture?.part" class="soft">{{ picture.part }}</span>
    <span class="spread" />
    <SaveNote v-if="picture" :saving="saving" :refusal="refusal" />
    <slot />
    <el-button-group>
      <el-button v-hint="'Undo, across pictures'" :disabled="!canUndo" data-test="undo" @click="emit('undo')"
        >Undo</el-button
      >
      <el-button v-hint="'Redo'" :disabled="!canRedo" data-test="redo" @click="emit('redo')">Redo</el-button>
    </el-button-group>
    <el-button-group>
      <el-button v-hint="'Previous picture'" :disabled="first" data-test="previous" @click="emit('go', -1)"
        >Previous</el-button
      >
      <el-button v-hint="'Next picture'" :disabled="last" data-test="next" @click="emit('go', 1)">Next</el-button>
    </el-button-group>
    <span class="soft" data-test="place">{{ place + 1 }} of {{ total }}</span>
  </header>
</template>

<style scoped>
.bar {
  grid-column: 1 / -1;
  display: flex;
  align-items: center;
  gap: 12px;
  padding: 8px 14px;
  border-bottom: 1px solid var(--rule);
}
.name {
  font-weight: 600;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.spread {
  flex: 1;
}
.bar .soft {
  white-space: nowrap;
}
</style>
