<script setup lang="ts">
/** What a detection run has found: its clips with boxes drawn over them, or a wall of its pictures. */
import { computed, ref } from "vue";

import type { Counted, Detection, FoundBox, FoundPicture } from "@/api/client";
import { count, duration, threshold, whole } from "@/parts/format";
import { useKeys } from "@/state/keys";
import ClipResult from "@/views/use/results/ClipResult.vue";
import { isSoft } from "@/views/anatomy/suppressions";
import BoxTable from "@/views/use/results/BoxTable.vue";
import CountPanel from "@/views/use/results/CountPanel.vue";
import { scoresTold } from "@/views/use/models";
import { useFound } from "@/views/use/results/found";
import LimitsPanel from "@/views/use/results/LimitsPanel.vue";
import ObjectList, { type ClipObject } from "@/views/use/results/ObjectList.vue";
import PictureWall from "@/views/use/results/PictureWall.vue";
import RightPanel from "@/views/use/results/RightPanel.vue";

export interface RunSummary {
  pictures?: number;
  detections?: number;
  objects?: Record<string, number> | null;
  seconds?: number;
  frames_per_second?: number | null;
  stages?: Record<string, number>;
  engine?: string;
  problems?: string[];
  copies?: string[];
  white?: { pictures: number; declared: number; whites: number[] };
}

const props = defineProps<{ detection: Detection; summary: RunSummary; address: (name: string) => string }>();

const { limits, timeline, query, at } = useFound(props.detection.id);
const tab = ref("");
const place = ref(0);
const object = ref(0);
const line = ref(2);
const captions = ref(true);
const filter = ref("all");
const wallPlace = ref<number | null>(null);
const labelled = ref(false);
const counted = ref<Counted[]>([]);
const drawing = ref<"line" | "region" | null>(null);
const chosenShape = ref<number | null>(null);
const panel = ref<InstanceType<typeof CountPanel>>();
const player = ref<InstanceType<typeof ClipResult>>();

const soft = computed(() => isSoft(props.detection.order.suppression));
const clips = computed(() => timeline.value?.clips ?? []);
const shown = computed(() => tab.value || (clips.value.length ? "clip 0" : "wall"));
const number = computed(() => (shown.value.startsWith("clip ") ? Number(shown.value.slice(5)) : -1));
const clip = computed(() => clips.value[number.value]);
const unit = computed(() =>
  clips.value.reduce((all, each) => all + each.frames, 0) === timeline.value?.pictures ? "frame" : "picture",
);
const busiest = computed(() => {
  const stages = Object.entries(props.summary.stages ?? {}).filter(([, seconds]) => seconds > 0);
  const all = stages.reduce((sum, [, seconds]) => sum + seconds, 0);
  return stages
    .filter(([, seconds]) => seconds / all >= 0.01)
    .map(([name, seconds]) => `${name} ${((100 * seconds) / all).toFixed(0)} %`)
    .join(", ");
});

function open(which: string): void {
  tab.value = which;
  drawing.value = null;
}
function goTo(which: number, whose = 0): void {
  object.value = whose;
  player.value?.go(which);
}
function goToObject(found: ClipObject): void {
  const which = clips.value.findIndex((each) => each.name === found.clip);
  const target = clips.value[which];
  if (!target) return;
  if (which !== number.value) open(`clip ${which}`);
  let nearest = 0;
  for (const [index, seconds] of target.seconds.entries())
    if (Math.abs(seconds - found.first_seconds) < Math.abs(target.seconds[nearest]! - found.first_seconds))
      nearest = index;
  object.value = found.object;
  if (player.value) player.value.go(target.first + nearest);
  else place.value = target.first + nearest;
}
function openInClip(picture: FoundPicture): void {
  const which = clips.value.findIndex(
    (each) => picture.place >= each.first && picture.place < each.first + each.frames,
  );
  if (which < 0) return;
  place.value = picture.place;
  open(`clip ${which}`);
}
function openBox(box: FoundBox): void {
  const which = clips.value.findIndex((each) => box.place >= each.first && box.place < each.first + each.frames);
  if (which >= 0) {
    place.value = box.place;
    object.value = box.object;
    open(`clip ${which}`);
  } else {
    wallPlace.value = box.place;
    open("wall");
  }
}
function showAgainstLabels(which: "right" | "wrong"): void {
  filter.value = which;
  wallPlace.value = null;
  open("wall");
}
function drawn(kind: "line" | "region", points: [number, number][]): void {
  void panel.value?.add(kind, points);
}

useKeys([
  {
    keys: ["h"],
    label: "Hide captions",
    run: () => (captions.value = !captions.value),
  },
]);
</script>

<template>
  <div v-if="timeline" class="results">
    <div class="main">
      <nav class="tabs" aria-label="What is shown">
        <button
          v-for="(each, index) in clips"
          :key="index"
          type="button"
          :aria-current="shown === `clip ${index}`"
          @click="open(`clip ${index}`)">
          {{ each.name }}
        </button>
        <button type="button" :aria-current="shown === 'wall'" data-test="to-wall" @click="open('wall')">
          {{ unit === "frame" ? "All frames" : "All pictures" }}
        </button>
        <button type="button" :aria-current="shown === 'boxes'" data-test="to-boxes" @click="open('boxes')">
          Boxes one by one
        </button>
      </nav>
      <ClipResult
        v-if="clip"
        ref="player"
        :key="number"
        v-model:place="place"
        v-model:object="object"
        :detection-id="detection.id"
        :number="number"
        :clip="clip"
        :timeline="timeline"
        :at="at"
        :line="line"
        :captions="captions"
        :counted="counted"
        :drawing="drawing"
        :chosen-shape="chosenShape"
        @give-up="drawing = null"
        @drawn="drawn" />
      <BoxTable
        v-else-if="shown === 'boxes'"
        :detection-id="detection.id"
        :classes="timeline.classes"
        :query="query"
        @open="openBox" />
      <PictureWall
        v-else
        v-model:filter="filter"
        v-model:place="wallPlace"
        :labelled="labelled"
        :detection-id="detection.id"
        :timeline="timeline"
        :query="query"
        :line="line"
        :captions="captions"
        @open="openInClip" />
    </div>
    <aside>
      <LimitsPanel
        v-model:line="line"
        v-model:captions="captions"
        :limits="limits"
        :timeline="timeline"
        :own-score="detection.minimum_score"
        :own-scores="detection.minimum_scores"
        :own-limit="detection.overlap_limit"
        :unit="unit"
        :soft="soft" />
      <RightPanel
        v-if="!clips.length"
        :detection-id="detection.id"
        :query="query"
        @known="labelled = $event"
        @show="showAgainstLabels" />
      <CountPanel
        v-if="clip"
        ref="panel"
        :key="`count ${number}`"
        v-model:counted="counted"
        v-model:drawing="drawing"
        v-model:chosen="chosenShape"
        :detection-id="detection.id"
        :clip="number"
        @go="goTo" />
      <ObjectList
        v-if="summary.objects && clip"
        :address="address('objects.json')"
        :download="`${address('objects.csv')}?download`"
        @go="goToObject" />
      <section v-if="summary.problems?.length" class="notice bad" data-test="problems">
        <p v-for="each in summary.problems" :key="each">{{ each }}</p>
      </section>
      <section class="soft about">
        <p>
          {{ detection.run_name }}, {{ duration(summary.seconds ?? 0) }},
          <b data-test="speed">{{ summary.frames_per_second }}</b> {{ unit }}s a second
        </p>
        <p v-if="summary.engine">{{ summary.engine }}</p>
        <p v-if="summary.white" data-test="run-white">
          {{ count(summary.white.pictures, "picture") }} of more than 8 bits, white at
          {{ summary.white.whites.map(whole).join(" and ") }}
        </p>
        <p v-if="busiest">Time at work: {{ busiest }}</p>
        <p>
          Minimum score {{ scoresTold(detection.minimum_score, detection.minimum_scores) }}, overlap limit
          {{ threshold(detection.overlap_limit) }}
        </p>
      </section>
    </aside>
  </div>
</template>

<style scoped>
.results {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: minmax(0, 1fr) 270px;
}
.main {
  display: grid;
  grid-template-rows: auto minmax(0, 1fr);
  min-width: 0;
  min-height: 0;
}
.main > :only-child {
  grid-row: 1 / -1;
}
.tabs {
  display: flex;
  gap: 4px;
  padding: 0 14px;
  border-bottom: 1px solid var(--rule);
  overflow-x: auto;
}
.tabs button {
  border: 0;
  border-bottom: 3px solid transparent;
  background: none;
  padding: 6px 10px;
  cursor: pointer;
  color: var(--ink-soft);
  white-space: nowrap;
}
.tabs button[aria-current="true"] {
  border-bottom-color: var(--leg);
  color: var(--ink);
}
aside {
  border-left: 1px solid var(--rule);
  overflow: auto;
}
.about {
  padding: 12px 14px;
  font-size: 13px;
  display: grid;
  gap: 3px;
}
.notice {
  margin: 10px 14px;
}
</style>
