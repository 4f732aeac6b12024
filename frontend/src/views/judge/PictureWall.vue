<script setup lang="ts">
/** All pictures of a measurement, those that need a look first. */
import { computed, nextTick, onBeforeUnmount, onMounted, ref, shallowRef, watch } from "vue";

import { api, type MarkedPicture, take, type WallRow } from "@/api/client";
import { count } from "@/parts/format";
import { complain } from "@/state/notes";
import MarkKey from "@/views/judge/MarkKey.vue";
import { latestOnly } from "@/views/judge/thresholds";
import WallTile from "@/views/judge/WallTile.vue";

const props = defineProps<{ evaluationId: number; rows: WallRow[]; names: string[]; query: Record<string, string> }>();
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

/** Tiles are added as one scrolls: thousands at once would be slow. */
const STEP = 60;
const shown = ref(STEP);
const end = ref<HTMLElement>();
const observer = new IntersectionObserver((entries) => {
  if (entries.at(-1)!.isIntersecting) shown.value += STEP;
}, { rootMargin: "600px" });
watch(shown, async () => {
  // Watched anew, so that an end that is still in sight is told of again.
  await nextTick();
  observer.disconnect();
  if (end.value) observer.observe(end.value);
});
onMounted(() => end.value && observer.observe(end.value));
onBeforeUnmount(() => observer.disconnect());
watch(order, () => (shown.value = STEP));

/** Boxes of the tiles in sight, fetched together. */
const MOST = 200;
const visible = new Set<number>();
const boxes = shallowRef(new Map<number, MarkedPicture>());
/** Whose boxes are those of the thresholds as they stand; the others are shown until theirs arrive. */
const fresh = new Set<number>();
const fetchBoxes = latestOnly(async () => {
  // Tiles come into sight one by one, in one turn of the page.
  await new Promise((resolve) => window.setTimeout(resolve, 20));
  const thresholds = props.query;
  const wanted = [...visible].filter((id) => !fresh.has(id)).slice(0, MOST);
  if (!wanted.length) return;
  try {
    const found = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}/marked", {
        params: { path: { evaluation_id: props.evaluationId }, query: { picture_ids: wanted, minimum_score: Number(thresholds.score), overlap_limit: Number(thresholds.overlap) } },
      }),
    );
    if (!same(thresholds, props.query)) return;
    for (const id of wanted) fresh.add(id);
    boxes.value = new Map([...boxes.value, ...found.pictures.map((each) => [each.picture_id, each] as const)]);
  } catch (error) {
    complain(error);
  }
});
const same = (a: Record<string, string>, b: Record<string, string>): boolean => a.score === b.score && a.overlap === b.overlap;
function see(id: number, now: boolean): void {
  if (!now) visible.delete(id);
  else {
    visible.add(id);
    if (!fresh.has(id)) fetchBoxes();
  }
}
watch(() => props.query, (now, before) => {
  if (same(now, before)) return;
  fresh.clear();
  fetchBoxes();
});
</script>

<template>
  <section>
    <label class="order">Order <el-select v-model="order" size="small" aria-label="Order" data-test="wall-order" style="width: 180px"><el-option v-for="each in orders" :key="each.value" v-bind="each" /></el-select>
      <span class="soft key"><i class="broken" />truth <i />prediction <MarkKey mark="miss" />missed <MarkKey mark="false_alarm" />false alarm</span>
    </label>
    <div class="wall">
      <WallTile
        v-for="row in ordered.slice(0, shown)" :key="row.picture_id" :evaluation-id="evaluationId" :row="row" :query="query" :names="names"
        :boxes="boxes.get(row.picture_id)" :show-iou="order === 'iou'" @seen="see(row.picture_id, $event)"
      />
      <p v-if="shown < ordered.length" ref="end" class="soft">{{ count(ordered.length - shown, "more picture") }}</p>
    </div>
  </section>
</template>

<style scoped>
.order { display: flex; gap: 8px; align-items: center; margin-bottom: 10px; }
.wall { display: grid; grid-template-columns: repeat(auto-fill, minmax(190px, 1fr)); gap: 12px; }
.key { display: inline-flex; gap: 5px; align-items: center; margin-left: 14px; font-size: 13px; }
.key i { width: 22px; border-top: 2px solid var(--ink); margin-left: 6px; }
.key i.broken { border-top-style: dashed; }
</style>
