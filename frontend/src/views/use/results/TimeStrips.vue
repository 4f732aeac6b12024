<script setup lang="ts">
/** How many boxes of each class there are over the course of a clip: a strip a class. A click goes to that moment. */
import { computed } from "vue";

import type { ClipSpan, Timeline } from "@/api/client";
import { useProject } from "@/state/project";

const props = defineProps<{ timeline: Timeline; clip: ClipSpan; place: number }>();
const emit = defineEmits<{ go: [place: number] }>();
const store = useProject();

const MOST = 8;
const HEIGHT = 15;
const WIDTH = 1000;

/** The bins that lie within the clip, each with where it begins and ends, in parts of the strip. */
const bins = computed(() => {
  const { bins: starts, pictures } = props.timeline;
  const [first, frames] = [props.clip.first, props.clip.frames];
  return starts
    .map((start, index) => ({ index, start, end: starts[index + 1] ?? pictures }))
    .filter((each) => each.end > first && each.start < first + frames)
    .map((each) => ({
      index: each.index,
      x1: (WIDTH * Math.max(0, each.start - first)) / frames,
      x2: (WIDTH * Math.min(frames, each.end - first)) / frames,
    }));
});

const strips = computed(() => {
  const all = props.timeline.classes
    .map((name, number) => {
      const counts = bins.value.map((each) => props.timeline.counts[number]?.[each.index] ?? 0);
      return { name, most: Math.max(0, ...counts), counts, total: props.timeline.boxes[number] ?? 0 };
    })
    .filter((each) => each.total);
  const chosen = [...all].sort((a, b) => b.total - a.total).slice(0, MOST);
  return all
    .filter((each) => chosen.includes(each))
    .map((each) => ({
      ...each,
      colour: store.classes.find((known) => known.name === each.name)?.colour ?? "var(--sand)",
      path: outline(each.counts, each.most),
    }));
});

function outline(counts: number[], most: number): string {
  const up = (count: number): number => HEIGHT - (HEIGHT * count) / Math.max(1, most);
  const steps = bins.value.map((bin, index) => `L${bin.x1},${up(counts[index]!)}L${bin.x2},${up(counts[index]!)}`);
  return `M0,${HEIGHT}${steps.join("")}L${WIDTH},${HEIGHT}Z`;
}

const at = computed(() => (WIDTH * (props.place - props.clip.first + 0.5)) / props.clip.frames);
const marks = computed(() => {
  const [first, last] = [props.clip.seconds[0] ?? 0, props.clip.seconds.at(-1) ?? 0];
  const step = [1, 2, 5, 10, 30, 60, 120, 300, 600, 1800, 3600].find((each) => (last - first) / each <= 12) ?? 7200;
  const made = [];
  for (let second = Math.ceil(first / step) * step; second <= last; second += step)
    made.push({ second, left: `${(100 * (second - first)) / Math.max(last - first, 1e-6)}%` });
  return made;
});

function go(event: MouseEvent): void {
  const place = (event.currentTarget as Element).getBoundingClientRect();
  const share = Math.min(Math.max((event.clientX - place.left) / place.width, 0), 0.9999);
  emit("go", props.clip.first + Math.floor(share * props.clip.frames));
}
</script>

<template>
  <div class="strips" data-test="timeline">
    <div class="names">
      <span v-for="each in strips" :key="each.name" :title="`${each.name}: at most ${each.most} on one frame`">
        {{ each.name }} <small>{{ each.most }}</small>
      </span>
      <span class="soft">s</span>
    </div>
    <!-- The keys that step and play do the same. -->
    <div class="course" @click="go" @pointermove="($event.buttons & 1) === 1 && go($event)">
      <svg
        v-for="each in strips"
        :key="each.name"
        :viewBox="`0 0 ${WIDTH} ${HEIGHT}`"
        preserveAspectRatio="none"
        aria-hidden="true">
        <path :d="each.path" :fill="each.colour" />
      </svg>
      <i class="now" :style="{ left: `${at / (WIDTH / 100)}%` }" />
      <div class="marks">
        <small v-for="each in marks" :key="each.second" :style="{ left: each.left }">{{ each.second }}</small>
      </div>
    </div>
  </div>
</template>

<style scoped>
.strips {
  display: grid;
  grid-template-columns: 108px minmax(0, 1fr);
  padding: 6px 14px 4px 10px;
  background: var(--paper);
  border-top: 1px solid var(--rule);
}
.names span {
  display: flex;
  justify-content: space-between;
  gap: 6px;
  height: 18px;
  padding-right: 8px;
  font-size: 13px;
  line-height: 18px;
  white-space: nowrap;
  overflow: hidden;
}
.names span:last-child {
  justify-content: flex-end;
}
.course {
  position: relative;
  cursor: pointer;
  touch-action: none;
}
svg {
  display: block;
  width: 100%;
  height: 16px;
  margin-bottom: 2px;
  background: var(--paper-deep);
}
.now {
  position: absolute;
  top: 0;
  bottom: 16px;
  width: 2px;
  margin-left: -1px;
  background: var(--ink);
  pointer-events: none;
}
.marks {
  position: relative;
  height: 18px;
}
.marks small {
  position: absolute;
  transform: translateX(-50%);
  color: var(--ink-soft);
}
small {
  font-size: 12px;
  color: var(--ink-soft);
}
</style>
