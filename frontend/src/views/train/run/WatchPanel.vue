<script setup lang="ts">
/** Watch pictures: the same held-out pictures, epoch after epoch, also beside another run. */
import { computed, onMounted, ref, watch } from "vue";

import { api, type Run, take, type Watch, type WatchedEpoch } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";
import { remembered } from "@/state/remembered";
import BoxedPicture from "@/parts/BoxedPicture.vue";
import FigureSlider from "@/parts/FigureSlider.vue";
import { wordsOf } from "@/state/notes";

const props = defineProps<{ run: Run; latest: number }>();
const store = useProject();

const watched = ref<Watch | null>(null);
const others = ref<Run[]>([]);
const otherId = ref<number | null>(null);
const other = ref<Watch | null>(null);
const kept = ref(new Map<string, WatchedEpoch>());
const place = ref(0);
const following = ref(true);
const failed = ref("");
const looks = remembered("watch-looks", {
  score: CONSTANTS.minimum_score,
  truths: true,
  scores: true,
});
const hidden = ref(new Set<number>());
const large = ref<number | null>(null);

const epochs = computed(() => watched.value?.epochs ?? []);
const epoch = computed(() => epochs.value[place.value] ?? 0);
const names = computed(() => watched.value?.class_names ?? []);

async function watchOf(id: number): Promise<Watch> {
  return take(api.GET("/api/v1/runs/{run_id}/watch", { params: { path: { run_id: id } } }));
}

async function load(): Promise<void> {
  try {
    watched.value = await watchOf(props.run.id);
    if (following.value) place.value = Math.max(0, epochs.value.length - 1);
    await Promise.all([fetchEpoch(props.run.id, epoch.value), loadOther()]);
    failed.value = "";
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

async function fetchEpoch(id: number, number: number): Promise<void> {
  const key = `${id}:${number}`;
  if (!number || kept.value.has(key)) return;
  const found = await take(
    api.GET("/api/v1/runs/{run_id}/watch/{epoch}", { params: { path: { run_id: id, epoch: number } } }),
  );
  kept.value = new Map(kept.value).set(key, found);
}

onMounted(async () => {
  await load();
  try {
    const found = await take(
      api.GET("/api/v1/projects/{project_id}/runs", { params: { path: { project_id: store.id } } }),
    );
    others.value = found.runs.filter((run) => run.id !== props.run.id && run.best_epoch !== null);
  } catch (error) {
    failed.value = wordsOf(error);
  }
});
watch(() => props.latest, load);
watch(place, () => {
  following.value = place.value === epochs.value.length - 1;
  void Promise.all([fetchEpoch(props.run.id, epoch.value), loadOther()]).catch(
    (error: Error) => (failed.value = error.message),
  );
});
watch(otherId, async (id) => {
  other.value = id === null ? null : await watchOf(id);
  await loadOther();
});

/** The other run's epoch next to this one: the same number, or its last. */
const otherEpoch = computed(() => {
  const all = other.value?.epochs ?? [];
  return all.filter((each) => each <= epoch.value).at(-1) ?? all.at(-1) ?? 0;
});
async function loadOther(): Promise<void> {
  if (otherId.value !== null) await fetchEpoch(otherId.value, otherEpoch.value);
}

interface Drawn {
  corners: readonly number[];
  classIndex: number;
  score?: number;
}
function found(id: number, number: number, pictureId: number, of: Watch | null): Drawn[] | null {
  const index = of?.pictures.findIndex((each) => each.picture_id === pictureId) ?? -1;
  const here = kept.value.get(`${id}:${number}`)?.pictures[index];
  if (!here) return index < 0 ? null : [];
  return here.boxes.flatMap((corners, box): Drawn[] => {
    const score = here.scores[box]!;
    const classIndex = here.classes[box]!;
    return score < looks.value.score || hidden.value.has(classIndex) ? [] : [{ corners, classIndex, score }];
  });
}
const tiles = computed(() =>
  (watched.value?.pictures ?? []).map((each) => ({
    picture: { id: each.picture_id, name: each.name, width: each.width, height: each.height },
    truths: looks.value.truths
      ? each.truths
          .filter((box) => !hidden.value.has(box.class_index))
          .map((box) => ({ corners: box.corners, classIndex: box.class_index }))
      : [],
    mine: found(props.run.id, epoch.value, each.picture_id, watched.value) ?? [],
    theirs: otherId.value === null ? undefined : found(otherId.value, otherEpoch.value, each.picture_id, other.value),
  })),
);
const shownTiles = computed(() =>
  large.value === null ? tiles.value : tiles.value.filter((each) => each.picture.id === large.value),
);
const otherName = computed(() => others.value.find((run) => run.id === otherId.value)?.name ?? "");

function toggleClass(index: number): void {
  const now = new Set(hidden.value);
  if (!now.delete(index)) now.add(index);
  hidden.value = now;
}
const step = (by: number): void => {
  place.value = Math.min(Math.max(0, place.value + by), Math.max(0, epochs.value.length - 1));
};
useKeys([
  { keys: [","], label: "Previous epoch", run: () => step(-1) },
  { keys: ["."], label: "Next epoch", run: () => step(1) },
  { keys: ["g"], label: "Truth on or off", run: () => (looks.value.truths = !looks.value.truths) },
  {
    keys: ["["],
    label: "Lower the minimum score",
    run: () => (looks.value.score = Math.max(0.05, Math.round(100 * looks.value.score - 5) / 100)),
  },
  {
    keys: ["]"],
    label: "Raise the minimum score",
    run: () => (looks.value.score = Math.min(0.95, Math.round(100 * looks.value.score + 5) / 100)),
  },
  { keys: ["Escape"], label: "All watch pictures", run: () => (large.value = null), hidden: true },
]);
</script>

<template>
  <div class="watch" data-test="watch-panel">
    <p v-if="failed" class="notice bad">{{ failed }}</p>
    <p v-if="watched && !epochs.length" class="soft">What the run finds is kept after its first epoch.</p>
    <template v-if="epochs.length">
      <div class="controls">
        <label class="slide"
          >Epoch <b data-test="watch-epoch">{{ epoch }}</b>
          <el-slider
            v-model="place"
            :min="0"
            :max="Math.max(1, epochs.length - 1)"
            :disabled="epochs.length < 2"
            :show-tooltip="false"
            size="small"
            aria-label="Epoch"
            data-test="watch-slider" />
        </label>
        <FigureSlider v-model="looks.score" label="Minimum score" :min="0.05" :max="0.95" :step="0.05" />
        <el-checkbox v-model="looks.truths" size="small"><span class="line-key" />Truth</el-checkbox>
        <el-checkbox v-if="large !== null" v-model="looks.scores" size="small">Scores</el-checkbox>
        <el-select
          v-model="otherId"
          size="small"
          clearable
          :value-on-clear="null"
          placeholder="Beside another run"
          aria-label="Beside another run"
          class="other"
          data-test="watch-other">
          <el-option v-for="each in others" :key="each.id" :value="each.id" :label="each.name" />
        </el-select>
      </div>
      <div class="classes">
        <button
          v-for="(name, index) in names"
          :key="name"
          type="button"
          :aria-pressed="!hidden.has(index)"
          :class="{ off: hidden.has(index) }"
          @click="toggleClass(index)">
          <i :style="{ background: store.classes.find((each) => each.name === name)?.colour }" />{{ name }}
        </button>
        <span v-if="otherId !== null" class="soft"
          >Left {{ run.name }}, epoch {{ epoch }}; right {{ otherName }}, epoch {{ otherEpoch }}</span
        >
        <el-button v-if="large !== null" link type="primary" @click="large = null">All watch pictures</el-button>
      </div>
      <div class="tiles" :class="{ pairs: otherId !== null, one: large !== null }">
        <div v-for="each in shownTiles" :key="each.picture.id" class="tile" data-test="watch-picture">
          <button
            type="button"
            :aria-label="`Enlarge ${each.picture.name}`"
            @click="large = large === null ? each.picture.id : null">
            <BoxedPicture
              :picture="each.picture"
              :names="names"
              :truths="each.truths"
              :boxes="each.mine"
              :scores="looks.scores && large !== null" />
            <BoxedPicture
              v-if="each.theirs"
              :picture="each.picture"
              :names="other?.class_names ?? []"
              :truths="each.truths"
              :boxes="each.theirs"
              :scores="looks.scores && large !== null" />
            <span v-else-if="each.theirs === null" class="absent">not watched by {{ otherName }}</span>
          </button>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.watch {
  display: grid;
  gap: 8px;
}
.controls {
  display: flex;
  gap: 18px;
  align-items: center;
  flex-wrap: wrap;
}
.slide {
  display: grid;
  grid-template-columns: auto 3.2em 220px;
  gap: 8px;
  align-items: center;
}
.other {
  width: 170px;
}
.line-key {
  display: inline-block;
  width: 22px;
  border-top: 2px dashed var(--ink);
  margin-right: 6px;
  vertical-align: 3px;
}
.classes {
  display: flex;
  gap: 6px;
  align-items: center;
  flex-wrap: wrap;
}
.classes button:not(.el-button) {
  border: 1px solid var(--rule);
  background: none;
  border-radius: 3px;
  padding: 1px 8px;
  cursor: pointer;
  color: inherit;
  font-size: 13px;
}
.classes button.off {
  opacity: 0.6;
  text-decoration: line-through;
}
.classes i {
  display: inline-block;
  width: 9px;
  height: 9px;
  margin-right: 6px;
}
.tiles {
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  gap: 6px;
}
.tiles.pairs {
  grid-template-columns: repeat(2, 1fr);
}
.tiles.one {
  grid-template-columns: minmax(0, 760px);
}
.tiles.one.pairs {
  grid-template-columns: 1fr;
}
.tile button {
  display: grid;
  width: 100%;
  border: 0;
  padding: 0;
  background: var(--paper-deep);
  cursor: zoom-in;
}
.pairs .tile button {
  grid-template-columns: 1fr 1fr;
  gap: 2px;
}
.absent {
  align-self: center;
  justify-self: center;
  color: var(--ink-soft);
  font-size: 13px;
}
</style>
