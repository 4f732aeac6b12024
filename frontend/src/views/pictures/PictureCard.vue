<script setup lang="ts">
/** A picture in the grid: thumbnail, name, how far its labelling is. */
import { ref } from "vue";

import { type Picture, pictureUrl } from "@/api/client";
import { count } from "@/parts/format";

const missing = ref(false);
defineProps<{ picture: Picture; chosen: boolean }>();
const emit = defineEmits<{ open: []; toggle: [event: MouseEvent] }>();

function stateText(picture: Picture): string {
  if (picture.state === "empty") return "no objects";
  if (picture.state === "unlabelled") return picture.proposed ? `${picture.proposed} proposed` : "not labelled";
  return count(picture.boxes, "box", "boxes") + (picture.state === "in_progress" ? ", in progress" : "");
}
</script>

<template>
  <div class="card" :class="[picture.state, { chosen }]" data-test="card">
    <button
      class="card-open"
      :title="`${picture.name}, ${picture.width}×${picture.height} pixels`"
      @click="emit('open')">
      <span v-if="missing" class="missing">The picture cannot be shown</span>
      <img v-else :src="pictureUrl(picture, 'thumbnail')" :alt="picture.name" loading="lazy" @error="missing = true" />
    </button>
    <input type="checkbox" :checked="chosen" :aria-label="`Select ${picture.name}`" @click="emit('toggle', $event)" />
    <div class="name">{{ picture.name }}</div>
    <div class="line">
      <span :class="{ todo: picture.state === 'unlabelled' }">{{ stateText(picture) }}</span>
      <span class="part">
        <span v-for="tag in picture.tags" :key="tag" class="tag">{{ tag }}</span>
        {{ picture.part }}
      </span>
    </div>
  </div>
</template>

<style scoped>
.card {
  position: relative;
  min-width: 0;
  font-size: 13px;
}
.card-open {
  display: block;
  width: 100%;
  padding: 0;
  border: 0;
  background: var(--stage);
  cursor: pointer;
  aspect-ratio: 16 / 9;
}
.missing {
  display: grid;
  place-items: center;
  height: 100%;
  color: #d8d3c4;
}
img {
  width: 100%;
  height: 100%;
  object-fit: contain;
  display: block;
}
.chosen .card-open {
  outline: 3px solid var(--leg);
  outline-offset: 1px;
}
input {
  position: absolute;
  left: 7px;
  top: 7px;
  width: 17px;
  height: 17px;
  margin: 0;
  accent-color: var(--leg);
  opacity: 0;
  cursor: pointer;
}
.card:hover input,
.chosen input,
input:focus-visible {
  opacity: 1;
}
.name {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  margin-top: 4px;
  font-weight: 600;
}
.line {
  display: flex;
  justify-content: space-between;
  color: var(--ink-soft);
}
.part {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  margin-left: 6px;
}
.tag {
  border: 1px solid var(--sand);
  border-radius: 3px;
  padding: 0 4px;
  margin-right: 3px;
}
.line > span:first-child {
  white-space: nowrap;
}
.todo {
  color: var(--brick);
}
</style>
