<script setup lang="ts">
/** A detection run under way: how far it is, how fast, and what it found last. */
import { onBeforeUnmount, ref, watch } from "vue";

import { api, type FoundPicture, type Job, take } from "@/api/client";
import BoxOverlay from "@/parts/BoxOverlay.vue";
import FittedPicture from "@/parts/FittedPicture.vue";

const props = defineProps<{ detectionId: number; job: Job }>();
const newest = ref<FoundPicture>();
const address = ref("");
const classes = ref<string[]>([]);
let asking = false;
let gone = false;

async function look(): Promise<void> {
  if (asking || gone) return;
  asking = true;
  try {
    const path = { detection_id: props.detectionId };
    const told = await take(api.GET("/api/v1/detections/{detection_id}/newest", { params: { path } }));
    const picture = told.pictures[0];
    if (!picture) return;
    const query = new URLSearchParams({ name: picture.name });
    if (picture.seconds !== null) query.set("seconds", String(picture.seconds));
    const pixels = `/api/v1/detections/${props.detectionId}/newest/pixels?${query}`;
    // Picture and boxes change together.
    await preload(pixels);
    [newest.value, address.value, classes.value] = [picture, pixels, told.classes];
  } catch {
    // What is running is told by the job itself; the next look may show it.
  } finally {
    asking = false;
  }
}
function preload(url: string): Promise<void> {
  return new Promise((resolve, reject) => {
    const image = new Image();
    image.onload = () => resolve();
    image.onerror = () => reject(new Error("no picture"));
    image.src = url;
  });
}
watch(
  () => props.job.done,
  () => void look(),
  { immediate: true },
);
const timer = setInterval(() => void look(), 2000);
onBeforeUnmount(() => {
  gone = true;
  clearInterval(timer);
});
</script>

<template>
  <div class="running" data-test="running">
    <p class="told">{{ job.message || "Waiting for the worker" }}</p>
    <FittedPicture :width="newest?.width" :height="newest?.height">
      <img :src="address" :alt="newest?.name" />
      <BoxOverlay v-if="newest" :picture="newest" :classes="classes" :line="2" captions />
      <template v-if="!newest" #beside><p>The first picture appears here with its boxes</p></template>
    </FittedPicture>
    <p v-if="newest" class="told soft">
      {{ newest.name }}<template v-if="newest.seconds !== null">, {{ newest.seconds.toFixed(1) }} s</template>
    </p>
  </div>
</template>

<style scoped>
.running {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-rows: auto minmax(0, 1fr) auto;
}
.told {
  padding: 8px 24px;
}
</style>
