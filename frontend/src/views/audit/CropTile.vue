<script setup lang="ts">
/** One box as a small picture of its content with a little surrounding. */
import { computed } from "vue";

import type { Crop } from "@/api/client";
import { squareAround } from "@/stage/crop";

const props = defineProps<{ crop: Crop; chosen: boolean; focused: boolean; value: string }>();
const emit = defineEmits<{ open: [] }>();
const url = computed(() => {
  const [x1, y1, x2, y2] = props.crop.corners;
  return `/api/v1/pictures/${props.crop.picture_id}/crop?x1=${x1}&y1=${y1}&x2=${x2}&y2=${y2}`;
});
/** Where the box lies within the crop. */
const outline = computed(() => {
  const [x1, y1, x2, y2] = props.crop.corners;
  const [left, top, side] = squareAround(props.crop.corners);
  const share = (length: number): string => `${(100 * length) / side}%`;
  return { left: share(x1 - left), top: share(y1 - top), width: share(x2 - x1), height: share(y2 - y1) };
});
</script>

<template>
  <button
    class="tile"
    :class="{ chosen, focused }"
    :aria-pressed="chosen"
    :title="`${crop.picture_name}, ${value}`"
    data-test="crop"
    @keydown.enter.prevent="emit('open')">
    <span class="picture"
      ><img :src="url" :alt="crop.picture_name" loading="lazy" /><span class="outline" :style="outline"
    /></span>
    <span class="value">{{ value }}</span>
  </button>
</template>

<style scoped>
.tile {
  padding: 0;
  border: 0;
  background: none;
  cursor: pointer;
  font-size: 13px;
  color: var(--ink-soft);
  text-align: left;
  min-width: 0;
}
.picture {
  position: relative;
  display: block;
  aspect-ratio: 1;
  background: var(--stage);
}
img {
  width: 100%;
  height: 100%;
  display: block;
}
.outline {
  position: absolute;
  border: 1px solid rgba(248, 245, 236, 0.75);
}
.chosen .picture {
  outline: 3px solid var(--leg);
  outline-offset: 1px;
}
.focused .value {
  color: var(--ink);
  font-weight: 600;
  text-decoration: underline;
}
.value {
  display: block;
  padding-top: 2px;
}
</style>
