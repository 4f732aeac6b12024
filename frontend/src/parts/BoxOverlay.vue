<script setup lang="ts">
/** The boxes of a picture or frame over it, in its own pixels. */
import { computed } from "vue";

import type { FoundPicture } from "@/api/client";
import { useProject } from "@/state/project";

const props = defineProps<{
  picture: FoundPicture;
  classes: string[];
  line: number;
  captions: boolean;
  mark?: number;
  /** How much larger captions are drawn, where the picture itself is shown small. */
  larger?: number;
}>();
const store = useProject();
const known = computed(() => new Map(store.classes.map((each) => [each.name, each])));
const text = computed(() => ((props.larger ?? 1) * Math.max(props.picture.width, props.picture.height)) / 55);
const colour = (kind: number): string => known.value.get(props.classes[kind] ?? "")?.colour ?? "#A9B8C9";

function caption(index: number): string {
  const object = props.picture.objects[index];
  const name = props.classes[props.picture.kinds[index]!] ?? "";
  if (props.picture.false?.includes(index)) return `not labelled: ${name} ${props.picture.scores[index]!.toFixed(2)}`;
  return `${object ? `${object} ` : ""}${name} ${props.picture.scores[index]!.toFixed(2)}`;
}
</script>

<template>
  <svg
    class="overlay"
    :viewBox="`0 0 ${picture.width} ${picture.height}`"
    preserveAspectRatio="xMidYMid meet"
    role="img"
    :aria-label="`${picture.name}, ${picture.boxes.length} boxes`"
    data-test="overlay">
    <g v-for="(box, index) in picture.boxes" :key="index" data-test="found-box">
      <rect
        :x="box[0]"
        :y="box[1]"
        :width="box[2]! - box[0]!"
        :height="box[3]! - box[1]!"
        :stroke="colour(picture.kinds[index]!)"
        :stroke-width="mark && picture.objects[index] === mark ? line * 2.2 : line" />
      <text
        v-if="captions"
        :x="box[0]! + text * 0.2"
        :y="box[1]! > text * 1.1 ? box[1]! - text * 0.3 : box[1]! + text"
        :font-size="text"
        :fill="colour(picture.kinds[index]!)">
        {{ caption(index) }}
      </text>
    </g>
    <g v-for="(box, index) in picture.missed ?? []" :key="`missed ${index}`" data-test="missed-box">
      <rect
        class="missed"
        :x="box[0]"
        :y="box[1]"
        :width="box[2]! - box[0]!"
        :height="box[3]! - box[1]!"
        :stroke-width="line" />
      <text
        v-if="captions"
        class="missed"
        :x="box[0]! + text * 0.2"
        :y="box[1]! > text * 1.1 ? box[1]! - text * 0.3 : box[1]! + text"
        :font-size="text">
        missed
      </text>
    </g>
  </svg>
</template>

<style scoped>
.overlay {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  pointer-events: none;
}
rect {
  fill: none;
  vector-effect: non-scaling-stroke;
}
rect.missed {
  stroke: #fff;
  stroke-dasharray: 5 4;
}
text.missed {
  fill: #fff;
}
text {
  font-family: var(--sans);
  font-weight: 700;
  paint-order: stroke;
  stroke: #101214;
  stroke-width: 0.22em;
}
</style>
