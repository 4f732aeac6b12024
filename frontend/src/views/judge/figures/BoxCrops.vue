<script setup lang="ts">
/** Boxes behind a figure, as crops that lead to the picture. */
import { useProject } from "@/state/project";

interface Shown {
  picture_id: number;
  name: string;
  corners: readonly number[];
  caption: string;
}
defineProps<{ evaluationId: number; boxes: Shown[]; query: Record<string, string> }>();
const store = useProject();
const crop = (evaluationId: number, { picture_id, corners }: Shown): string =>
  `/api/v1/evaluations/${evaluationId}/pictures/${picture_id}/crop?x1=${corners[0]}&y1=${corners[1]}&x2=${corners[2]}&y2=${corners[3]}`;
</script>

<template>
  <div class="crops">
    <router-link
      v-for="(box, index) in boxes"
      :key="index"
      :to="{ path: `/project/${store.id}/judge/${evaluationId}/${box.picture_id}`, query }"
      :title="box.name"
      data-test="box-crop">
      <img :src="crop(evaluationId, box)" :alt="`${box.name}, ${box.caption}`" loading="lazy" />
      <span>{{ box.caption }}</span>
    </router-link>
  </div>
</template>

<style scoped>
.crops {
  display: grid;
  align-items: start;
  grid-template-columns: repeat(auto-fill, minmax(100px, 1fr));
  gap: 6px;
  margin-top: 4px;
}
a {
  color: inherit;
  text-decoration: none;
  font-size: 12px;
  min-width: 0;
}
img {
  width: 100%;
  aspect-ratio: 1;
  display: block;
  background: var(--stage);
}
span {
  display: block;
  line-height: 1.25;
  margin-top: 2px;
}
</style>
