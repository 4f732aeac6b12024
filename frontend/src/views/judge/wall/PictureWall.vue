<script setup lang="ts">
/** All pictures of a measurement, those that need a look first. */
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from "vue";

import type { WallRow } from "@/api/client";
import { count } from "@/parts/format";
import { useProject } from "@/state/project";
import { useMarked } from "@/views/judge/wall/marked";
import MarkedThumbnail from "@/views/judge/wall/MarkedThumbnail.vue";
import MarkKey from "@/views/judge/wall/MarkKey.vue";

const props = defineProps<{ evaluationId: number; rows: WallRow[]; query: Record<string, string> }>();
const store = useProject();
type Order = "worst" | "misses" | "alarms" | "iou" | "name";
const order = ref<Order>("worst");
const orders: { value: Order; label: string }[] = [
  { value: "worst", label: "Worst first" },
  { value: "misses", label: "Most missed" },
  { value: "alarms", label: "Most false alarms" },
  { value: "iou", label: "Lowest IoU of a hit" },
  { value: "name", label: "Name" },
];
const value: Record<Order, (row: WallRow) => number> = {
  worst: (row) => -(row.misses + row.false_alarms),
  misses: (row) => -row.misses,
  alarms: (row) => -row.false_alarms,
  iou: (row) => row.lowest_iou ?? 2,
  name: () => 0,
};
const ordered = computed(() =>
  [...props.rows].sort((a, b) => value[order.value](a) - value[order.value](b) || a.name.localeCompare(b.name)),
);

/** Tiles are added as one scrolls: thousands at once would be slow. */
const STEP = 60;
const shown = ref(STEP);
const end = ref<HTMLElement>();
const observer = new IntersectionObserver(
  (entries) => {
    if (entries.at(-1)!.isIntersecting) shown.value += STEP;
  },
  { rootMargin: "600px" },
);
watch(shown, async () => {
  // Watched anew, so that an end that is still in sight is told of again.
  await nextTick();
  observer.disconnect();
  if (end.value) observer.observe(end.value);
});
onMounted(() => end.value && observer.observe(end.value));
onBeforeUnmount(() => observer.disconnect());
watch(order, () => (shown.value = STEP));

const { boxes, names, see } = useMarked(() => ({
  evaluationId: props.evaluationId,
  minimumScore: Number(props.query.score),
  overlapLimit: Number(props.query.overlap),
}));
</script>

<template>
  <section>
    <label class="order"
      >Order
      <el-select v-model="order" size="small" aria-label="Order" data-test="wall-order" style="width: 180px"
        ><el-option v-for="each in orders" :key="each.value" v-bind="each"
      /></el-select>
      <span class="soft key"
        ><i class="broken" />truth <i />prediction <MarkKey mark="miss" />missed <MarkKey mark="false_alarm" />false
        alarm</span
      >
    </label>
    <div class="wall">
      <router-link
        v-for="row in ordered.slice(0, shown)"
        :key="row.picture_id"
        class="tile"
        data-test="wall-tile"
        :to="{ path: `/project/${store.id}/judge/${evaluationId}/${row.picture_id}`, query }">
        <MarkedThumbnail
          :evaluation-id="evaluationId"
          :picture-id="row.picture_id"
          :name="row.name"
          :boxes="boxes.get(row.picture_id)"
          :class-names="names"
          @seen="see(row.picture_id, $event)" />
        <span class="line">
          <span class="name">{{ row.name }}</span>
          <span v-if="order === 'iou' && row.lowest_iou !== null" class="soft"
            >IoU {{ row.lowest_iou.toFixed(2) }}</span
          >
          <span v-if="row.misses"><MarkKey mark="miss" />{{ row.misses }}</span>
          <span v-if="row.false_alarms"><MarkKey mark="false_alarm" />{{ row.false_alarms }}</span>
          <span v-if="!row.misses && !row.false_alarms"><MarkKey mark="hit" />all</span>
        </span>
      </router-link>
      <p v-if="shown < ordered.length" ref="end" class="soft">{{ count(ordered.length - shown, "more picture") }}</p>
    </div>
  </section>
</template>

<style scoped>
.order {
  display: flex;
  gap: 8px;
  align-items: center;
  margin-bottom: 10px;
}
.wall {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(190px, 1fr));
  gap: 12px;
}
.key {
  display: inline-flex;
  gap: 5px;
  align-items: center;
  margin-left: 14px;
  font-size: 13px;
}
.key i {
  width: 22px;
  border-top: 2px solid var(--ink);
  margin-left: 6px;
}
.key i.broken {
  border-top-style: dashed;
}
.tile {
  color: inherit;
  text-decoration: none;
  font-size: 13px;
  min-width: 0;
}
.line {
  display: flex;
  gap: 8px;
  align-items: center;
  margin-top: 3px;
}
.line > span {
  display: inline-flex;
  gap: 3px;
  align-items: center;
}
.line > .name {
  flex: 1;
  display: block;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
