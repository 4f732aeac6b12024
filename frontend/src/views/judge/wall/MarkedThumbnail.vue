<script setup lang="ts">
/** A small picture of a measurement: truth in broken lines, predictions in full ones, errors with their mark. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";

import type { MarkedBox, MarkedPicture } from "@/api/client";
import BoxOutline from "@/stage/BoxOutline.vue";
import { useProject } from "@/state/project";

const props = defineProps<{
  evaluationId: number;
  pictureId: number;
  name: string;
  boxes?: MarkedPicture;
  classNames: string[];
}>();
const emit = defineEmits<{ seen: [visible: boolean] }>();
const store = useProject();
const place = ref<HTMLElement>();
const colours = computed(() => new Map(store.classes.map((each) => [each.name, each.colour])));
/** Picture pixels for one pixel of a thumbnail about 200 wide. */
const unit = computed(() => Math.max((props.boxes?.width ?? 1) / 200, (props.boxes?.height ?? 1) / 112));

interface Drawn {
  box: MarkedBox;
  truth: boolean;
}
const drawn = computed<Drawn[]>(() => [
  ...(props.boxes?.truths ?? []).map((box) => ({ box, truth: true })),
  ...(props.boxes?.predictions ?? []).map((box) => ({ box, truth: false })),
]);
const errors = computed(() => drawn.value.filter(({ box, truth }) => box.mark === (truth ? "miss" : "false_alarm")));
const colour = (box: MarkedBox): string => colours.value.get(props.classNames[box.class_index] ?? "") ?? "#A9B8C9";
/** Where a mark lies: at the box's upper right corner, but within the picture. */
function corner(box: MarkedBox): string {
  const edge = 6 * unit.value;
  const x = Math.max(edge, Math.min(props.boxes!.width - edge, box.corners[2]));
  return `translate(${x} ${Math.max(edge, box.corners[1])}) scale(${unit.value})`;
}

let observer: IntersectionObserver;
onMounted(() => {
  observer = new IntersectionObserver((entries) => emit("seen", entries.at(-1)!.isIntersecting), {
    rootMargin: "200px",
  });
  observer.observe(place.value!);
});
onBeforeUnmount(() => {
  observer.disconnect();
  emit("seen", false);
});
</script>

<template>
  <span ref="place" class="picture">
    <img :src="`/api/v1/evaluations/${evaluationId}/pictures/${pictureId}/thumbnail`" :alt="name" loading="lazy" />
    <svg v-if="boxes" :viewBox="`0 0 ${boxes.width} ${boxes.height}`" aria-hidden="true">
      <BoxOutline
        v-for="({ box, truth }, index) in drawn"
        :key="index"
        :corners="box.corners"
        :truth="truth"
        :colour="colour(box)"
        :width="1.5" />
      <g v-for="({ box, truth }, index) in errors" :key="`e${index}`" class="mark" :transform="corner(box)">
        <circle r="5.5" />
        <circle v-if="truth" r="2.2" class="ring" />
        <path v-else d="M-2.3 -2.3l4.6 4.6M2.3 -2.3l-4.6 4.6" />
      </g>
    </svg>
  </span>
</template>

<style scoped>
.picture {
  position: relative;
  display: block;
  aspect-ratio: 16 / 9;
  background: var(--stage);
}
img {
  width: 100%;
  height: 100%;
  object-fit: contain;
  display: block;
  color: var(--stage-ink);
}
svg {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
}
.mark circle {
  fill: #15181b;
}
.mark path,
.mark .ring {
  fill: none;
  stroke: #f08a6c;
  stroke-width: 1.6;
}
</style>
