<script setup lang="ts">
/** One picture of the wall: truth in broken lines, predictions in full ones, errors with their mark. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";

import type { MarkedBox, MarkedPicture, WallRow } from "@/api/client";
import { useProject } from "@/state/project";
import MarkKey from "@/views/judge/MarkKey.vue";

const props = defineProps<{ evaluationId: number; row: WallRow; query: Record<string, string>; boxes?: MarkedPicture; names: string[]; showIou: boolean }>();
const emit = defineEmits<{ seen: [visible: boolean] }>();
const store = useProject();
const place = ref<{ $el: HTMLElement }>();
const colours = computed(() => new Map(store.classes.map((each) => [each.name, each.colour])));
/** Picture pixels for one pixel of a tile about 200 wide. */
const unit = computed(() => Math.max(props.row.width / 200, props.row.height / 112));

interface Drawn { box: MarkedBox; truth: boolean }
const drawn = computed<Drawn[]>(() => [
  ...(props.boxes?.truths ?? []).map((box) => ({ box, truth: true })),
  ...(props.boxes?.predictions ?? []).map((box) => ({ box, truth: false })),
]);
const errors = computed(() => drawn.value.filter(({ box, truth }) => box.mark === (truth ? "miss" : "false_alarm")));
const colour = (box: MarkedBox): string => colours.value.get(props.names[box.class_index] ?? "") ?? "#A9B8C9";

let observer: IntersectionObserver;
onMounted(() => {
  observer = new IntersectionObserver((entries) => emit("seen", entries.at(-1)!.isIntersecting), { rootMargin: "200px" });
  observer.observe(place.value!.$el);
});
onBeforeUnmount(() => {
  observer.disconnect();
  emit("seen", false);
});
</script>

<template>
  <router-link ref="place" class="tile" data-test="wall-tile" :to="{ path: `/project/${store.id}/judge/${evaluationId}/${row.picture_id}`, query }">
    <span class="picture">
      <img :src="`/api/v1/evaluations/${evaluationId}/pictures/${row.picture_id}/thumbnail`" :alt="row.name" loading="lazy" />
      <svg v-if="boxes" :viewBox="`0 0 ${row.width} ${row.height}`" aria-hidden="true">
        <rect
          v-for="({ box, truth }, index) in drawn" :key="index" :class="{ truth }" :stroke="colour(box)"
          :x="box.corners[0]" :y="box.corners[1]" :width="box.corners[2] - box.corners[0]" :height="box.corners[3] - box.corners[1]"
        />
        <g v-for="({ box, truth }, index) in errors" :key="`e${index}`" class="mark" :transform="`translate(${Math.max(6 * unit, Math.min(row.width - 6 * unit, box.corners[2]))} ${Math.max(6 * unit, box.corners[1])}) scale(${unit})`">
          <circle r="5.5" />
          <circle v-if="truth" r="2.2" class="ring" /><path v-else d="M-2.3 -2.3l4.6 4.6M2.3 -2.3l-4.6 4.6" />
        </g>
      </svg>
    </span>
    <span class="line">
      <span class="name">{{ row.name }}</span>
      <span v-if="showIou && row.lowest_iou !== null" class="soft">IoU {{ row.lowest_iou.toFixed(2) }}</span>
      <span v-if="row.misses"><MarkKey mark="miss" />{{ row.misses }}</span>
      <span v-if="row.false_alarms"><MarkKey mark="false_alarm" />{{ row.false_alarms }}</span>
      <span v-if="!row.misses && !row.false_alarms"><MarkKey mark="hit" />all</span>
    </span>
  </router-link>
</template>

<style scoped>
.tile { color: inherit; text-decoration: none; font-size: 13px; min-width: 0; }
.picture { position: relative; display: block; aspect-ratio: 16 / 9; background: var(--stage); }
img { width: 100%; height: 100%; object-fit: contain; display: block; color: var(--stage-ink); }
.picture svg { position: absolute; inset: 0; width: 100%; height: 100%; }
rect { fill: none; stroke-width: 1.5; vector-effect: non-scaling-stroke; }
rect.truth { stroke-dasharray: 3 3; }
.mark circle { fill: #15181b; }
.mark path, .mark .ring { fill: none; stroke: #f08a6c; stroke-width: 1.6; }
.line { display: flex; gap: 8px; align-items: center; margin-top: 3px; }
.line > span { display: inline-flex; gap: 3px; align-items: center; }
.line > .name { flex: 1; display: block; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
</style>
