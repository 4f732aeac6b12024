<script setup lang="ts">
/** The outline of a box in an SVG whose unit is a pixel of the picture; truth in a broken line. */
import type { Corners } from "@/stage/crop";

withDefaults(defineProps<{ corners: Corners; truth?: boolean; colour?: string; width?: number }>(), {
  colour: "#f08a6c",
  width: 2,
});
</script>

<template>
  <rect
    :class="{ truth }"
    :style="{ stroke: truth ? undefined : colour, strokeWidth: width }"
    :x="corners[0]"
    :y="corners[1]"
    :width="corners[2]! - corners[0]!"
    :height="corners[3]! - corners[1]!" />
</template>

<style scoped>
rect {
  fill: none;
  vector-effect: non-scaling-stroke;
}
.truth {
  stroke: var(--truth);
  stroke-dasharray: var(--truth-dash);
}
</style>
