<script setup lang="ts">
/** A clip to be labelled: its frames are found and its objects fetched, then the desk is set. */
import { ref, shallowRef } from "vue";
import { useRoute } from "vue-router";

import { api, type ClipDetail, take, type TrackList } from "@/api/client";
import { complain, wordsOf } from "@/state/notes";
import ClipDesk from "@/views/clips/ClipDesk.vue";

const route = useRoute();
const clipId = Number(route.params.clip);
const clip = shallowRef<ClipDetail | null>(null);
const tracks = shallowRef<TrackList>({ tracks: [], time: null, timed: 0 });
const failed = ref("");

async function load(): Promise<void> {
  failed.value = "";
  const params = { path: { clip_id: clipId } };
  try {
    const [detail, found] = await Promise.all([
      take(api.GET("/api/v1/clips/{clip_id}", { params })),
      take(api.GET("/api/v1/clips/{clip_id}/tracks", { params })),
    ]);
    tracks.value = found;
    clip.value = detail;
  } catch (error) {
    failed.value = wordsOf(error);
  }
}
void load();

/** Another stretch may count now; the desk stays as it is. */
async function chosen(): Promise<void> {
  const params = { path: { clip_id: clipId } };
  try {
    clip.value = await take(api.GET("/api/v1/clips/{clip_id}", { params }));
  } catch (error) {
    complain(error);
  }
}
</script>

<template>
  <ClipDesk v-if="clip" :clip="clip" :tracks="tracks" @chosen="chosen" />
  <p v-else-if="failed" class="view-body notice bad" data-test="clip-failed">
    {{ failed }}
    <el-button link type="primary" @click="load">Try again</el-button>
    <router-link :to="`/project/${route.params.project}/collect/clips`">All clips</router-link>
  </p>
  <p v-else class="view-body soft">Finding the frames of the clip</p>
</template>
