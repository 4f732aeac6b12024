<script setup lang="ts">
/** A grid of any number of pictures, of which only the rows in sight exist. */
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from "vue";

import type { Picture } from "@/api/client";
import PictureCard from "@/views/pictures/PictureCard.vue";

const props = defineProps<{
  total: number;
  at: (index: number) => Picture | undefined;
  chosen: Set<number>;
  /** Where the scroll position is kept while a picture is open. */
  memory: string;
}>();
const emit = defineEmits<{
  need: [first: number, last: number];
  open: [picture: Picture];
  toggle: [index: number, event: MouseEvent | KeyboardEvent];
}>();

const LEAST_WIDTH = 176;
const GAP = 12;
const TEXT = 46;
const SPARE_ROWS = 2;

const frame = ref<HTMLDivElement>();
const width = ref(1);
const height = ref(1);
const top = ref(0);
const focused = ref(-1);

const columns = computed(() => Math.max(1, Math.floor((width.value + GAP) / (LEAST_WIDTH + GAP))));
const rowHeight = computed(() => ((width.value - GAP * (columns.value - 1)) / columns.value) * (9 / 16) + TEXT + GAP);
const rows = computed(() => Math.ceil(props.total / columns.value));
const first = computed(() => Math.max(0, Math.floor(top.value / rowHeight.value) - SPARE_ROWS) * columns.value);
const last = computed(
  () =>
    Math.min(props.total, (Math.ceil((top.value + height.value) / rowHeight.value) + SPARE_ROWS) * columns.value) - 1,
);
const places = computed(() =>
  Array.from({ length: Math.max(0, last.value - first.value + 1) }, (_, index) => first.value + index),
);

watch([first, last, () => props.total], () => emit("need", first.value, Math.max(first.value, last.value)), {
  immediate: true,
});

function scrolled(): void {
  top.value = frame.value?.scrollTop ?? 0;
  sessionStorage.setItem(props.memory, String(top.value));
}

let observer: ResizeObserver;
let restored = false;
onMounted(() => {
  observer = new ResizeObserver(([entry]) => {
    if (!entry) return;
    width.value = Math.max(1, entry.contentRect.width);
    height.value = entry.contentRect.height;
  });
  observer.observe(frame.value!);
});
onBeforeUnmount(() => observer.disconnect());
watch(
  [() => props.total, width],
  async () => {
    if (restored || !props.total || width.value < 2) return;
    restored = true;
    await nextTick();
    frame.value?.scrollTo(0, Number(sessionStorage.getItem(props.memory) ?? 0));
  },
  { immediate: true },
);

/** Move the focus by so many pictures; 0 goes to where it was last. */
async function focus(step: number): Promise<void> {
  const now = focused.value < 0 ? first.value - step : focused.value;
  focused.value = Math.min(Math.max(now + step, 0), props.total - 1);
  const row = Math.floor(focused.value / columns.value) * rowHeight.value;
  if (row < top.value) frame.value?.scrollTo(0, row);
  else if (row + rowHeight.value > top.value + height.value)
    frame.value?.scrollTo(0, row + rowHeight.value - height.value);
  scrolled();
  await nextTick();
  frame.value?.querySelector<HTMLElement>(`[data-index="${focused.value}"] .card-open`)?.focus();
}

function toStart(): void {
  focused.value = -1;
  frame.value?.scrollTo(0, 0);
}

defineExpose({ focus, columns, focused, toStart });
</script>

<template>
  <div ref="frame" class="frame" data-test="grid" :data-total="total" @scroll.passive="scrolled">
    <div class="whole" :style="{ height: `${rows * rowHeight}px` }">
      <div
        class="rows"
        :style="{
          transform: `translateY(${Math.floor(first / columns) * rowHeight}px)`,
          gridTemplateColumns: `repeat(${columns}, minmax(0, 1fr))`,
          gridAutoRows: `${rowHeight - GAP}px`,
        }">
        <template v-for="place in places" :key="at(place)?.id ?? -place - 1">
          <PictureCard
            v-if="at(place)"
            :picture="at(place)!"
            :data-index="place"
            :chosen="chosen.has(at(place)!.id)"
            @open="emit('open', at(place)!)"
            @toggle="emit('toggle', place, $event)"
            @focusin="focused = place" />
          <div v-else class="awaited" />
        </template>
      </div>
    </div>
  </div>
</template>

<style scoped>
.frame {
  flex: 1;
  min-height: 0;
  overflow-y: auto;
  padding: 18px 24px 24px;
  scrollbar-gutter: stable;
}
.whole {
  position: relative;
}
.rows {
  display: grid;
  gap: 12px;
}
.awaited {
  background: var(--paper-deep);
}
</style>
