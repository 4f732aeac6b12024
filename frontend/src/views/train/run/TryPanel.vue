<script setup lang="ts">
/** Try the latest checkpoint on any picture, also while the run is at work. */
import { computed, onMounted, ref } from "vue";

import { api, type Outcome, type Picture, pictureUrl, type Run, sendFiles, take } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import { useProject } from "@/state/project";
import BoxedPicture from "@/parts/BoxedPicture.vue";
import FigureSlider from "@/parts/FigureSlider.vue";
import { wordsOf } from "@/state/notes";

const props = defineProps<{ run: Run; latest: number }>();
const store = useProject();

const pictures = ref<Picture[]>([]);
const name = ref("");
const chosen = ref<Picture | null>(null);
const tried = ref<Outcome<"try_model"> | null>(null);
const score = ref(props.run.minimum_score ?? CONSTANTS.minimum_score);
const busy = ref(false);
const failed = ref("");
const shown = computed(() =>
  tried.value
    ? tried.value.boxes
        .map((corners, index) => ({
          corners,
          classIndex: tried.value!.classes[index]!,
          score: tried.value!.scores[index]!,
        }))
        .filter((box) => box.score >= score.value)
    : [],
);

async function list(): Promise<void> {
  try {
    const found = await take(
      api.GET("/api/v1/projects/{project_id}/pictures", {
        params: { path: { project_id: store.id }, query: { limit: 40, name: name.value || undefined } },
      }),
    );
    pictures.value = found.pictures;
  } catch (error) {
    failed.value = wordsOf(error);
  }
}
onMounted(list);

async function attempt(picture: Picture): Promise<void> {
  if (busy.value) return;
  chosen.value = picture;
  busy.value = true;
  failed.value = "";
  tried.value = null;
  try {
    const path = { run_id: props.run.id };
    const starting = take(
      api.POST("/api/v1/runs/{run_id}/try", { params: { path }, body: { picture_id: picture.id } }),
    );
    tried.value = (await store.outcomeOf("try_model", starting)).outcome;
  } catch (error) {
    failed.value = wordsOf(error);
  } finally {
    busy.value = false;
  }
}

/** A picture from outside joins the project, unlabelled and in no part, and is tried. */
async function fromOutside(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement;
  const file = input.files?.[0];
  if (!file) return;
  try {
    const sent = await sendFiles<{ files: { picture_id: number | null; message: string }[] }>(
      `/api/v1/projects/${store.id}/media`,
      [file],
    );
    const id = sent.files[0]?.picture_id;
    if (!id) throw new Error(sent.files[0]?.message || "This file is not a picture");
    const found = await take(api.GET("/api/v1/pictures/{picture_id}", { params: { path: { picture_id: id } } }));
    await Promise.all([list(), store.refresh()]);
    await attempt(found.picture);
  } catch (error) {
    failed.value = wordsOf(error);
  } finally {
    input.value = "";
  }
}
</script>

<template>
  <div class="try" data-test="try-panel">
    <aside>
      <el-input
        v-model="name"
        size="small"
        clearable
        placeholder="Name of a picture"
        aria-label="Name of a picture"
        @change="list" />
      <div class="list">
        <button
          v-for="each in pictures"
          :key="each.id"
          type="button"
          :class="{ here: each.id === chosen?.id }"
          data-test="try-picture"
          @click="attempt(each)">
          <img :src="pictureUrl(each, 'thumbnail')" alt="" loading="lazy" />{{ each.name }}
        </button>
      </div>
      <label class="outside"
        >From this computer, into the project
        <input type="file" accept="image/*" aria-label="A picture from this computer" @change="fromOutside"
      /></label>
    </aside>
    <section>
      <p v-if="failed" class="notice bad">{{ failed }}</p>
      <p v-if="!run.has_model && !latest" class="soft">There is a checkpoint after the first epoch.</p>
      <p v-else-if="!chosen" class="soft">
        Choose a picture: the latest checkpoint looks at it, also while the run trains.
      </p>
      <p v-else-if="busy" class="soft">Looking at {{ chosen.name }}…</p>
      <template v-if="tried && chosen">
        <div class="controls">
          <span data-test="tried">Epoch {{ tried.epoch }} finds {{ shown.length }} on {{ chosen.name }}</span>
          <FigureSlider v-model="score" label="Minimum score" :min="0.05" :max="0.95" :step="0.05" />
          <el-button v-if="(tried.epoch ?? 0) < latest" size="small" @click="attempt(chosen)"
            >Again with epoch {{ latest }}</el-button
          >
        </div>
        <BoxedPicture :picture="chosen" :names="tried.class_names" :boxes="shown" scores />
      </template>
    </section>
  </div>
</template>

<style scoped>
.try {
  display: grid;
  grid-template-columns: 190px minmax(0, 1fr);
  gap: 18px;
  height: 100%;
}
aside {
  display: grid;
  grid-template: auto minmax(0, 1fr) auto / minmax(0, 1fr);
  gap: 8px;
  min-height: 0;
  min-width: 0;
}
.list {
  overflow: auto;
  display: grid;
  align-content: start;
  gap: 2px;
}
.list button {
  display: flex;
  gap: 8px;
  align-items: center;
  border: 0;
  background: none;
  padding: 2px;
  cursor: pointer;
  text-align: left;
  color: inherit;
  font-size: 13px;
}
.list button:hover {
  background: var(--paper-deep);
}
.list button.here {
  background: var(--leg-pale);
}
.list img {
  width: 56px;
  height: 32px;
  object-fit: contain;
  background: var(--stage);
  background: var(--stage);
}
.outside input {
  min-width: 0;
  width: 100%;
}
.outside {
  font-size: 13px;
  color: var(--ink-soft);
  display: grid;
  gap: 3px;
}
section {
  display: grid;
  gap: 8px;
  align-content: start;
  min-width: 0;
}
.controls {
  display: flex;
  gap: 18px;
  align-items: center;
}
section :deep(svg) {
  max-width: 720px;
}
</style>
