<script setup lang="ts">
/** Boxes behind a figure, as crops that lead to the picture: truth in broken lines, predictions in full ones. */
import BoxOutline from "@/stage/BoxOutline.vue";
import { both, type Corners, squareAround } from "@/stage/crop";
import { useProject } from "@/state/project";

interface Shown {
  picture_id: number;
  name: string;
  corners: Corners;
  /** None where nothing was predicted: the box is the truth itself. */
  score: number | null;
  truth: Corners | null;
  caption: string;
}
defineProps<{ evaluationId: number; boxes: Shown[]; query: Record<string, string> }>();
const store = useProject();
const seen = (box: Shown): Corners => (box.truth ? both(box.corners, box.truth) : box.corners);
const crop = (evaluationId: number, box: Shown): string => {
  const [x1, y1, x2, y2] = seen(box);
  return `/api/v1/evaluations/${evaluationId}/pictures/${box.picture_id}/crop?x1=${x1}&y1=${y1}&x2=${x2}&y2=${y2}`;
};
const drawn = (box: Shown): { corners: Corners; truth: boolean }[] => [
  ...(box.truth ? [{ corners: box.truth, truth: true }] : []),
  ...(box.score === null ? [] : [{ corners: box.corners, truth: false }]),
];
</script>

<template>
  <div class="crops">
    <router-link
      v-for="(box, index) in boxes"
      :key="index"
      :to="{ path: `/project/${store.id}/judge/${evaluationId}/${box.picture_id}`, query }"
      :title="box.name"
      data-test="box-crop">
      <span class="picture">
        <img :src="crop(evaluationId, box)" :alt="`${box.name}, ${box.caption}`" loading="lazy" />
        <svg :viewBox="squareAround(seen(box)).join(' ')" aria-hidden="true">
          <BoxOutline v-for="(each, number) in drawn(box)" :key="number" v-bind="each" />
        </svg>
      </span>
      <span class="caption">{{ box.caption }}</span>
    </router-link>
  </div>
  <p class="soft note">Truth in broken lines, what was found in full ones.</p>
</template>

<style scoped>
.crops {
  display: grid;
  align-items: start;
  grid-template-columns: repeat(auto-fill, minmax(130px, 1fr));
  gap: 8px;
  margin-top: 4px;
}
a {
  color: inherit;
  text-decoration: none;
  font-size: 12px;
  min-width: 0;
}
.picture {
  position: relative;
  display: block;
  aspect-ratio: 1;
  background: var(--stage);
}
img,
svg {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
}
.note {
  margin: 6px 0 0;
  font-size: 13px;
}
.caption {
  display: block;
  line-height: 1.25;
  margin-top: 2px;
}
</style>
