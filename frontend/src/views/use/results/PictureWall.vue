<script setup lang="ts">
/** The pictures and frames that were looked at, with their boxes: sorted, filtered, selected, sent to Collect. */
import { computed, ref, watch } from "vue";

import { api, type FoundPicture, take, type Timeline } from "@/api/client";
import { count } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, say } from "@/state/notes";
import { useProject } from "@/state/project";
import BoxOverlay from "@/parts/BoxOverlay.vue";
import FittedPicture from "@/parts/FittedPicture.vue";
import type { Found, Sort } from "@/views/use/results/found";

const props = defineProps<{
  detectionId: number;
  timeline: Timeline;
  query: Found["query"]["value"];
  /** Some of the pictures are labelled. */
  labelled: boolean;
  line: number;
  captions: boolean;
}>();
const emit = defineEmits<{ open: [picture: FoundPicture] }>();
const store = useProject();

const SOME = 36;
const sort = ref<Sort>("as they came");
const withClass = defineModel<string>("filter", { default: "all" });
const pictures = ref<FoundPicture[]>([]);
const total = ref(0);
/** Place of a picture that is shown alone, though it may lie beyond those that are loaded. */
const alone = defineModel<number | null>("place", { default: null });
const lone = ref<FoundPicture>();
const open = ref<number | null>(null);
const selected = ref(new Set<number>());
const loading = ref(false);
const sending = ref(false);
let version = 0;

async function load(more = false): Promise<void> {
  const mine = ++version;
  loading.value = true;
  try {
    const start = more ? pictures.value.length : 0;
    const filter =
      withClass.value === "none"
        ? { empty: true }
        : withClass.value === "right" || withClass.value === "wrong"
          ? { against_labels: withClass.value as "right" | "wrong" }
          : withClass.value === "all"
            ? {}
            : { with_class: withClass.value.slice(1) };
    const some = await take(
      api.GET("/api/v1/detections/{detection_id}/pictures", {
        params: {
          path: { detection_id: props.detectionId },
          query: { ...props.query, sort: sort.value, ...filter, start, count: more ? SOME : Math.max(SOME, 1) },
        },
      }),
    );
    if (mine !== version) return;
    total.value = some.total;
    pictures.value = more ? [...pictures.value, ...some.pictures] : some.pictures;
  } catch (error) {
    complain(error);
  } finally {
    loading.value = false;
  }
}
watch([sort, withClass, () => props.query], () => void load(), { immediate: true, deep: true });

watch(
  alone,
  async (place) => {
    lone.value = undefined;
    if (place === null) return;
    try {
      const some = await take(
        api.GET("/api/v1/detections/{detection_id}/pictures", {
          params: { path: { detection_id: props.detectionId }, query: { ...props.query, start: place, count: 1 } },
        }),
      );
      lone.value = some.pictures[0];
    } catch (error) {
      complain(error);
    }
  },
  { immediate: true },
);
const shown = computed(() => (open.value === null ? lone.value : pictures.value[open.value]));
function close(): false | void {
  if (!shown.value) return false;
  open.value = alone.value = null;
}
function scrolled(event: Event): void {
  const place = event.target as HTMLElement;
  const near = place.scrollTop + place.clientHeight > place.scrollHeight - 500;
  if (near && !loading.value && pictures.value.length < total.value) void load(true);
}
function move(by: number): void {
  if (open.value === null) return;
  open.value = Math.min(Math.max(open.value + by, 0), pictures.value.length - 1);
  if (open.value > pictures.value.length - 5 && pictures.value.length < total.value) void load(true);
}
function select(place: number): void {
  const next = new Set(selected.value);
  if (!next.delete(place)) next.add(place);
  selected.value = next;
}
function selectShown(): void {
  if (shown.value) select(shown.value.place);
}
function selectAll(): void {
  const all = pictures.value.map((each) => each.place);
  selected.value = all.every((each) => selected.value.has(each)) ? new Set() : new Set(all);
}
async function collect(): Promise<void> {
  if (!selected.value.size || sending.value) return;
  sending.value = true;
  try {
    // With the very boxes that are shown.
    const { only, ...limits } = props.query;
    const body = {
      places: [...selected.value],
      minimum_score: limits.minimum_score ?? null,
      overlap_limit: limits.overlap_limit ?? null,
      only: only.split("\n").filter(Boolean),
    };
    const starting = take(
      api.POST("/api/v1/detections/{detection_id}/collect", {
        params: { path: { detection_id: props.detectionId } },
        body,
      }),
    );
    const { outcome } = await store.outcomeOf("collect_found", starting);
    const there = outcome.already_there ? `, ${outcome.already_there} there already` : "";
    say(`${count(outcome.added, "picture")} sent to Collect${there}; their boxes are kept as proposals`);
    selected.value = new Set();
  } catch (error) {
    complain(error);
  } finally {
    sending.value = false;
  }
}
/** All places on the wall have the shape of its first picture; one of another shape is fitted in. */
const shape = computed(() => {
  const first = pictures.value[0];
  return first ? Math.min(Math.max(first.width / first.height, 0.75), 2) : 1.5;
});
const pixels = (picture: FoundPicture, longest: number): string =>
  `/api/v1/detections/${props.detectionId}/pictures/${picture.place}/pixels?longest=${longest}`;
const named = (picture: FoundPicture): string =>
  picture.frame === null ? picture.name : `${picture.name}, frame ${picture.frame}`;

useKeys([
  { keys: ["."], label: "Next picture", run: () => move(1) },
  { keys: [","], label: "Previous picture", run: () => move(-1) },
  { keys: ["x"], label: "Select the picture shown", run: selectShown },
  { keys: ["Ctrl+a"], label: "Select all shown", run: selectAll },
  { keys: ["Shift+k"], label: "Collect the selected pictures", run: collect },
  { keys: ["Escape"], label: "Back to the wall", run: close },
]);
</script>

<template>
  <div class="wall" data-test="wall">
    <div class="bar">
      <el-select v-model="sort" size="small" aria-label="Sort" style="width: 150px">
        <el-option value="as they came" label="As they came" />
        <el-option value="most boxes" label="Most boxes first" />
        <el-option value="least sure" label="Least sure first" />
        <el-option value="surest" label="Surest first" />
      </el-select>
      <el-select v-model="withClass" size="small" aria-label="Show" style="width: 170px" data-test="wall-filter">
        <el-option value="all" label="All pictures" />
        <el-option v-for="name in timeline.classes" :key="name" :value="`=${name}`" :label="`With ${name}`" />
        <el-option value="none" label="No box at all" />
        <template v-if="labelled">
          <el-option value="right" label="As labelled" />
          <el-option value="wrong" label="Not as labelled" />
        </template>
      </el-select>
      <span class="soft">{{ count(total, "picture") }}</span>
      <span class="spread" />
      <span v-if="selected.size" class="soft">{{ selected.size }} selected</span>
      <el-button
        v-hint="'Collect the selected pictures'"
        size="small"
        :disabled="!selected.size"
        :loading="sending"
        data-test="collect"
        @click="collect"
        >Send to Collect</el-button
      >
    </div>
    <div v-if="shown" class="one" data-test="wall-one">
      <FittedPicture :width="shown.width" :height="shown.height">
        <img :src="pixels(shown, 1600)" :alt="named(shown)" />
        <BoxOverlay :picture="shown" :classes="timeline.classes" :line="line" :captions="captions" />
      </FittedPicture>
      <p>
        <el-button size="small" @click="close">All pictures</el-button> {{ named(shown) }}
        <span class="soft">{{ count(shown.boxes.length, "box", "boxes") }}</span>
        <el-checkbox :model-value="selected.has(shown.place)" @change="select(shown.place)">Selected</el-checkbox>
        <el-button v-if="shown.frame !== null" size="small" link type="primary" @click="emit('open', shown)"
          >In the clip</el-button
        >
      </p>
    </div>
    <div v-else class="grid" @scroll="scrolled">
      <p v-if="!pictures.length && !loading" class="soft none">No picture fits.</p>
      <figure v-for="(each, index) in pictures" :key="each.place" :class="{ selected: selected.has(each.place) }">
        <button
          type="button"
          class="picture"
          :style="{ aspectRatio: shape }"
          data-test="wall-picture"
          @click="open = index">
          <img loading="lazy" :src="pixels(each, 480)" :alt="named(each)" />
          <BoxOverlay :picture="each" :classes="timeline.classes" :line="Math.max(1, line - 1)" :captions="false" />
        </button>
        <figcaption>
          <el-checkbox
            size="small"
            :model-value="selected.has(each.place)"
            :aria-label="`Select ${named(each)}`"
            data-test="wall-select"
            @change="select(each.place)" />
          <span class="name" :title="named(each)">{{ named(each) }}</span>
          <span class="soft">{{ each.boxes.length }}</span>
        </figcaption>
      </figure>
    </div>
  </div>
</template>

<style scoped>
.wall {
  display: grid;
  grid-template-rows: auto minmax(0, 1fr);
  min-width: 0;
  min-height: 0;
}
.bar {
  display: flex;
  align-items: center;
  gap: 10px;
  padding: 8px 14px;
  border-bottom: 1px solid var(--rule);
}
.spread {
  flex: 1;
}
.grid {
  overflow: auto;
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(220px, 1fr));
  gap: 12px;
  align-content: start;
  padding: 14px;
}
figure {
  margin: 0;
  min-width: 0;
}
.picture {
  position: relative;
  display: block;
  width: 100%;
  padding: 0;
  border: 0;
  background: var(--stage);
  cursor: zoom-in;
}
figure.selected .picture {
  outline: 3px solid var(--leg);
}
.picture img {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  object-fit: contain;
}
figcaption {
  display: flex;
  align-items: center;
  gap: 6px;
  font-size: 13px;
}
.name {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.one {
  display: grid;
  grid-template-rows: minmax(0, 1fr) auto;
  min-height: 0;
}
.one p {
  width: 100%;
  display: flex;
  gap: 12px;
  align-items: center;
  padding: 6px 14px;
  background: var(--paper);
}
.none {
  grid-column: 1 / -1;
}
</style>
