<script setup lang="ts">
/** A small picture with boxes over it, not to be worked on. */
import { useProject } from "@/state/project";

defineProps<{
  picture: { id: number; name: string; width: number; height: number };
  boxes: { class_id: number; corners: [number, number, number, number] }[];
}>();
const store = useProject();
</script>

<template>
  <svg :viewBox="`0 0 ${picture.width} ${picture.height}`" role="img" :aria-label="picture.name">
    <image :href="`/api/v1/pictures/${picture.id}/file`" :width="picture.width" :height="picture.height" />
    <rect
      v-for="(box, index) in boxes"
      :key="index"
      :x="box.corners[0]"
      :y="box.corners[1]"
      :width="box.corners[2] - box.corners[0]"
      :height="box.corners[3] - box.corners[1]"
      :stroke="store.classById.get(box.class_id)?.colour ?? '#A9B8C9'" />
  </svg>
</template>

<style scoped>
svg {
  display: block;
  width: 100%;
  background: var(--stage);
}
rect {
  fill: none;
  stroke-width: 2;
  vector-effect: non-scaling-stroke;
}
</style>
