<script setup lang="ts">
/** The clips of the project: what is labelled on each, and the ways on. */
import { onBeforeUnmount, ref, watch } from "vue";
import { useRouter } from "vue-router";

import { api, type ClipRow, take } from "@/api/client";
import { count } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import { thinnedTo } from "@/views/clips/choice";
import ClipChoice from "@/views/clips/ClipChoice.vue";
import CollectHead from "@/views/pictures/CollectHead.vue";

const store = useProject();
const router = useRouter();
const clips = ref<ClipRow[] | null>(null);
const failed = ref("");
const at = ref(0);
const choosing = ref<ClipRow | null>(null);
const binned = ref(false);

async function load(): Promise<void> {
  failed.value = "";
  const params = { path: { project_id: store.id }, query: { binned: binned.value } };
  try {
    clips.value = (await take(api.GET("/api/v1/projects/{project_id}/clips", { params }))).clips;
  } catch (error) {
    failed.value = wordsOf(error);
  }
}
void load();
watch(binned, load);
const stopLooking = store.onJob((job) => {
  if (job.state === "done" && ["sample_clip", "take_archive", "gather_tracks"].includes(job.kind)) void load();
});
onBeforeUnmount(stopLooking);

const address = (clip: ClipRow): string => `/project/${store.id}/collect/clips/${clip.id}`;

function told(clip: ClipRow): string {
  const parts = [
    clip.labelled_as ? `Labelled as ${clip.labelled_as}` : "Nobody has chosen how it is labelled",
    clip.objects ? count(clip.objects, "object") : "",
    clip.proposed ? `${clip.proposed} proposed` : "",
    clip.pictures ? `${count(clip.pictures, "frame")} as pictures` : "",
  ];
  return parts.filter(Boolean).join(", ");
}

async function setBinned(clip: ClipRow, into: boolean): Promise<void> {
  const params = { path: { clip_id: clip.id } };
  await take(api.PUT("/api/v1/clips/{clip_id}/binned", { params, body: { binned: into } }));
  await load();
}
async function putAway(clip: ClipRow): Promise<void> {
  const into = !binned.value;
  try {
    await setBinned(clip, into);
    sayWithUndo(`${clip.name} ${into ? "moved to the bin" : "restored"}`, () => setBinned(clip, !into));
  } catch (error) {
    complain(error);
  }
}

function move(by: number): void {
  const all = clips.value?.length ?? 0;
  if (all) at.value = (at.value + by + all) % all;
}
useKeys([
  { keys: ["ArrowDown"], label: "Next clip", run: () => move(1) },
  { keys: ["ArrowUp"], label: "Previous clip", run: () => move(-1) },
  {
    keys: ["Shift+i"],
    label: "Into pictures, or objects: how the clip is labelled",
    run: () => (choosing.value = clips.value?.[at.value] ?? null) !== null,
  },
  {
    keys: ["Delete"],
    label: "Move the clip to the bin, or restore it",
    run: () => {
      const clip = clips.value?.[at.value];
      return clip ? putAway(clip) : false;
    },
  },
  {
    keys: ["Enter"],
    label: "Label the clip",
    run: () => {
      const clip = clips.value?.[at.value];
      return clip ? router.push(address(clip)) : false;
    },
  },
]);
</script>

<template>
  <div class="view">
    <CollectHead />
    <p class="filters"><el-checkbox v-model="binned" size="small" data-test="bin">Bin</el-checkbox></p>
    <p v-if="failed" class="view-body notice bad">
      {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
    </p>
    <div v-else-if="clips && !clips.length" class="view-body" data-test="no-clips">
      <h2>{{ binned ? "No clip is in the bin" : "No clips yet" }}</h2>
      <p v-if="!binned" class="soft">
        Add one under <router-link :to="`/project/${store.id}/collect`">Pictures</router-link>: MP4, MOV, AVI, MKV or
        WebM. Then label the objects that move through it, or take frames from it as pictures.
      </p>
    </div>
    <ul v-else-if="clips" class="view-body list" data-test="clips">
      <li v-for="(clip, place) in clips" :key="clip.id" :class="{ here: place === at }" data-test="clip-row">
        <router-link :to="address(clip)" class="first">
          <img
            :src="`/api/v1/clips/${clip.id}/frames/0?width=320`"
            :alt="`First frame of ${clip.name}`"
            loading="lazy" />
        </router-link>
        <div>
          <h2>
            <router-link :to="address(clip)">{{ clip.name }}</router-link>
          </h2>
          <p class="soft">
            {{ clip.width }}×{{ clip.height }} px, {{ clip.rate.toFixed(clip.rate % 1 ? 2 : 0) }} frames a second{{
              clip.seconds ? `, ${clip.seconds.toFixed(1)} s` : ""
            }}
          </p>
          <p data-test="clip-told">{{ told(clip) }}</p>
          <p v-if="clip.labelled_as" class="soft">
            {{ clip.labelled_as === "objects" ? "Learnt from" : "Frames" }}: {{ thinnedTo(clip) }}
          </p>
        </div>
        <div class="ways">
          <el-button v-if="binned" data-test="restore-clip" @click="putAway(clip)">Restore</el-button>
          <template v-else>
            <el-button
              :type="clip.labelled_as === 'pictures' ? undefined : 'primary'"
              data-test="label-clip"
              @click="router.push(address(clip))"
              >Label objects</el-button
            >
            <el-button data-test="take-frames" @click="choosing = clip">Choose frames</el-button>
            <el-button link data-test="bin-clip" @click="putAway(clip)">Move to bin</el-button>
          </template>
        </div>
      </li>
    </ul>
    <ClipChoice
      v-if="choosing"
      :model-value="true"
      :clip="choosing"
      :objects="choosing.objects"
      @chosen="load"
      @update:model-value="choosing = null" />
  </div>
</template>

<style scoped>
.filters {
  padding: 0 24px;
  text-align: right;
}
.list {
  list-style: none;
  margin: 0;
  display: grid;
  align-content: start;
  gap: 0;
}
li {
  display: grid;
  grid-template-columns: 200px minmax(0, 1fr) auto;
  gap: 18px;
  align-items: center;
  padding: 12px 10px;
  border-bottom: 1px solid var(--rule);
  border-left: 3px solid transparent;
}
li.here {
  border-left-color: var(--leg);
}
.first img {
  width: 200px;
  aspect-ratio: 16 / 9;
  object-fit: contain;
  background: var(--stage);
  display: block;
}
h2 {
  margin-bottom: 4px;
}
.ways {
  display: grid;
  gap: 6px;
}
.ways :deep(.el-button) {
  margin: 0;
}
</style>
