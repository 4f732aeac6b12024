<script setup lang="ts">
/** What was found against the labels of pictures that are labelled: nothing where none is. */
import { computed, ref, watch } from "vue";

import { api, type Right, take } from "@/api/client";
import { count, whole } from "@/parts/format";
import { complain } from "@/state/notes";
import type { Found } from "@/views/use/results/found";

const props = defineProps<{ detectionId: number; query: Found["query"]["value"] }>();
const emit = defineEmits<{ known: [any: boolean]; show: [which: "right" | "wrong"] }>();

const told = ref<Right | null>(null);
let version = 0;
watch(
  () => props.query,
  async (query) => {
    const mine = ++version;
    try {
      const params = { path: { detection_id: props.detectionId }, query };
      const made = await take(api.GET("/api/v1/detections/{detection_id}/right", { params }));
      if (mine !== version) return;
      told.value = made;
      emit("known", made.pictures > 0);
    } catch (error) {
      complain(error);
    }
  },
  { immediate: true, deep: true },
);
const sum = (counts: Record<string, number>): number => Object.values(counts).reduce((all, each) => all + each, 0);
const figures = computed(() => {
  const made = told.value;
  if (!made?.pictures) return null;
  const [found, missed, wrong] = [sum(made.found), sum(made.missed), sum(made.false)];
  return { share: Math.round((100 * made.right) / made.pictures), found, missed, false: wrong };
});
</script>

<template>
  <section v-if="told && figures" data-test="right">
    <h3>Against the labels</h3>
    <p>
      <b class="big">{{ figures.share }} %</b> as labelled:
      <el-button link type="primary" @click="emit('show', 'right')">{{ whole(told.right) }}</el-button> of
      {{ count(told.pictures, "labelled picture") }}
    </p>
    <p class="soft">
      {{ whole(figures.found) }} of {{ count(figures.found + figures.missed, "object") }} found at IoU 0.5,
      {{ whole(figures.missed) }} missed, {{ count(figures.false, "false box", "false boxes") }}.
      <el-button
        v-if="told.right < told.pictures"
        link
        type="primary"
        size="small"
        data-test="show-wrong"
        @click="emit('show', 'wrong')"
        >Show what differs</el-button
      >
    </p>
  </section>
</template>

<style scoped>
section {
  display: grid;
  gap: 4px;
  padding: 12px 14px;
  border-bottom: 1px solid var(--rule);
}
.big {
  font: 560 20px/1.2 var(--serif);
}
</style>
