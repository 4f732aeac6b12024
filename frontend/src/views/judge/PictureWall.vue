<script setup lang="ts">
/** All pictures of a measurement, those that need a look first. */
import { computed, ref } from "vue";

import type { WallRow } from "@/api/client";
import { useProject } from "@/state/project";
import MarkKey from "@/views/judge/MarkKey.vue";

const props = defineProps<{ evaluationId: number; rows: WallRow[]; query: Record<string, string> }>();
const store = useProject();
type Order = "worst" | "misses" | "alarms" | "iou" | "name";
const order = ref<Order>("worst");
const orders: { value: Order; label: string }[] = [
  { value: "worst", label: "Worst first" },
  { value: "misses", label: "Most missed" },
  { value: "alarms", label: "Most false alarms" },
  { value: "iou", label: "Lowest IoU of a hit" },
  { value: "name", label: "By name" },
];
const value: Record<Order, (row: WallRow) => number> = {
  worst: (row) => -(row.misses + row.false_alarms),
  misses: (row) => -row.misses,
  alarms: (row) => -row.false_alarms,
  iou: (row) => row.lowest_iou ?? 2,
  name: () => 0,
};
const ordered = computed(() => [...props.rows].sort((a, b) => value[order.value](a) - value[order.value](b) || a.name.localeCompare(b.name)));
</script>

<template>
  <section>
    <label class="order">Order <el-select v-model="order" size="small" aria-label="Order" data-test="wall-order" style="width: 180px"><el-option v-for="each in orders" :key="each.value" v-bind="each" /></el-select></label>
    <div class="wall">
      <router-link
        v-for="row in ordered" :key="row.picture_id" class="tile" data-test="wall-tile"
        :to="{ path: `/project/${store.id}/judge/${evaluationId}/${row.picture_id}`, query }"
      >
        <img :src="`/api/v1/evaluations/${evaluationId}/pictures/${row.picture_id}/thumbnail`" :alt="row.name" loading="lazy" />
        <span class="line">
          <span class="name">{{ row.name }}</span>
          <span v-if="order === 'iou' && row.lowest_iou !== null" class="soft">IoU {{ row.lowest_iou.toFixed(2) }}</span>
          <span v-if="row.misses"><MarkKey mark="miss" />{{ row.misses }}</span>
          <span v-if="row.false_alarms"><MarkKey mark="false_alarm" />{{ row.false_alarms }}</span>
          <span v-if="!row.misses && !row.false_alarms"><MarkKey mark="hit" />all</span>
        </span>
      </router-link>
    </div>
  </section>
</template>

<style scoped>
.order { display: flex; gap: 8px; align-items: center; margin-bottom: 10px; }
.wall { display: grid; grid-template-columns: repeat(auto-fill, minmax(190px, 1fr)); gap: 12px; }
.tile { color: inherit; text-decoration: none; font-size: 13px; min-width: 0; }
img { width: 100%; aspect-ratio: 16 / 9; object-fit: contain; background: var(--stage); display: block; color: var(--stage-ink); }
.line { display: flex; gap: 8px; align-items: center; margin-top: 3px; }
.line > span { display: inline-flex; gap: 3px; align-items: center; }
.line > .name { flex: 1; display: block; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
</style>
