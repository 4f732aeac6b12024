<script setup lang="ts">
/** A region drawn on the first picture of what a run goes over: outside of it nothing counts. */
import { ref, watch } from "vue";

import type { Counted } from "@/api/client";
import { useKeys } from "@/state/keys";
import ShapeLayer from "@/views/use/results/ShapeLayer.vue";

const shown = defineModel<boolean>({ required: true });
const region = defineModel<[number, number][]>("region", { required: true });
const props = defineProps<{ picture: string }>();

const size = ref<{ width: number; height: number } | null>(null);
const failed = ref(false);
const layer = ref<InstanceType<typeof ShapeLayer>>();
watch(
  () => props.picture,
  () => ([size.value, failed.value] = [null, false]),
);
function loaded(event: Event): void {
  const image = event.target as HTMLImageElement;
  size.value = { width: image.naturalWidth, height: image.naturalHeight };
}
function drawn(points: [number, number][]): void {
  region.value = points;
}
const asShape = (points: [number, number][]): Counted[] =>
  points.length
    ? [
        {
          shape: { kind: "region", name: "counts", points, sides: ["", ""] },
          forward: {},
          back: {},
          crossings: [],
          objects: {},
          most: 0,
          most_place: 0,
          most_seconds: 0,
          stays: [],
        },
      ]
    : [];
useKeys([
  {
    keys: ["Enter"],
    label: "Close the region",
    run: () => (shown.value ? layer.value?.finish() : false),
    hidden: true,
  },
]);
</script>

<template>
  <el-dialog v-model="shown" title="Where boxes count" width="860" append-to-body>
    <p class="soft">Click the corners over the first picture; the first one or Enter closes the region.</p>
    <div class="frame" :style="{ aspectRatio: size ? `${size.width} / ${size.height}` : '16 / 9' }" data-test="region">
      <img v-if="picture && !failed" :src="picture" alt="The first picture" @load="loaded" @error="failed = true" />
      <p v-else class="soft">The first picture cannot be shown here; the corners are in parts of it all the same.</p>
      <ShapeLayer
        ref="layer"
        :size="size ?? { width: 960, height: 540 }"
        :counted="asShape(region)"
        drawing="region"
        :chosen="0"
        @drawn="drawn" />
    </div>
    <template #footer>
      <el-button :disabled="!region.length" @click="region = []">Everywhere</el-button>
      <el-button type="primary" data-test="region-done" @click="shown = false">Done</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.frame {
  position: relative;
  max-height: 60vh;
  margin: 8px auto 0;
  background: var(--stage);
}
img {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
}
.frame p {
  padding: 20px;
  color: var(--stage-ink);
}
</style>
