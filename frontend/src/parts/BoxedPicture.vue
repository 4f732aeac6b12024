<script setup lang="ts">
/** A picture with boxes over it, not to be worked on: truths in broken lines, all others in full ones. */
import { computed } from "vue";

import { pictureUrl } from "@/api/client";
import { useProject } from "@/state/project";

interface Drawn {
  corners: readonly number[];
  classIndex: number;
  score?: number;
}
const props = defineProps<{
  picture: { id: number; name: string; width: number; height: number };
  names: string[];
  truths?: Drawn[];
  boxes: Drawn[];
  scores?: boolean;
}>();
const store = useProject();
const colour = (index: number): string =>
  store.classes.find((each) => each.name === props.names[index])?.colour ?? "#A9B8C9";
const number = (index: number): number =>
  store.classes.find((each) => each.name === props.names[index])?.position ?? index + 1;
const text = computed(() => Math.max(props.picture.width, props.picture.height) / 38);
</script>

<template>
  <svg
    :viewBox="`0 0 ${picture.width} ${picture.height}`"
    role="img"
    :aria-label="`${picture.name}, ${boxes.length} boxes`"
    data-test="detections">
    <image :href="pictureUrl(picture)" :width="picture.width" :height="picture.height" />
    <rect
      v-for="(box, index) in truths ?? []"
      :key="`t${index}`"
      class="truth"
      :x="box.corners[0]"
      :y="box.corners[1]"
      :width="box.corners[2]! - box.corners[0]!"
      :height="box.corners[3]! - box.corners[1]!" />
    <g v-for="(box, index) in boxes" :key="`p${index}`" data-test="prediction">
      <rect
        :x="box.corners[0]"
        :y="box.corners[1]"
        :width="box.corners[2]! - box.corners[0]!"
        :height="box.corners[3]! - box.corners[1]!"
        :stroke="colour(box.classIndex)" />
      <text
        v-if="scores"
        :x="box.corners[0]! + text * 0.15"
        :y="box.corners[1]! + text"
        :font-size="text"
        :fill="colour(box.classIndex)">
        {{ number(box.classIndex) }} {{ box.score?.toFixed(2) }}
      </text>
    </g>
  </svg>
</template>

<style scoped>
svg {
  display: block;
  width: 100%;
  /* A tall picture leaves room for what stands above and below it. */
  max-height: 62vh;
  background: var(--stage);
}
rect {
  fill: none;
  stroke-width: 2;
  vector-effect: non-scaling-stroke;
}
.truth {
  stroke: var(--truth);
  stroke-dasharray: var(--truth-dash);
}
text {
  font-family: var(--sans);
  font-weight: 700;
  paint-order: stroke;
  stroke: #101214;
  stroke-width: 0.2em;
}
</style>
