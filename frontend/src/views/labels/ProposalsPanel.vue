<script setup lang="ts">
/** Beside the stage: how many boxes a model proposes here, from which score on, and all of them at once. */
import FigureSlider from "@/parts/FigureSlider.vue";
import { count } from "@/parts/format";

defineProps<{ open: number; all: number; unknown: number }>();
const least = defineModel<number>("least", { required: true });
const emit = defineEmits<{ keep: []; refuse: []; leastSure: [] }>();
</script>

<template>
  <section v-if="all" data-test="proposals">
    <h3>{{ open ? count(open, "proposal") : "No proposal left" }}</h3>
    <FigureSlider v-if="open || least > 0" v-model="least" label="From a score of" :min="0" :max="0.99" :step="0.01" />
    <div v-if="open" class="pair">
      <el-button v-hint="'Keep all proposals shown'" size="small" data-test="keep-all" @click="emit('keep')"
        >Keep all</el-button
      >
      <el-button v-hint="'Refuse all proposals shown'" size="small" data-test="refuse-all" @click="emit('refuse')"
        >Refuse all</el-button
      >
    </div>
    <p v-if="open" class="soft"><b>→</b> keeps, <b>←</b> refuses, <b>↑ ↓</b> go through them</p>
    <el-button v-hint="'Least sure picture next'" size="small" data-test="least-sure" @click="emit('leastSure')"
      >Least sure picture next</el-button
    >
    <p v-if="unknown" class="soft">{{ count(unknown, "proposal") }} of classes that this project does not have</p>
  </section>
</template>

<style scoped>
section {
  display: grid;
  gap: 6px;
  padding: 10px 12px;
  border-bottom: 1px solid var(--rule);
}
section :deep(.figure-slider) {
  width: 100%;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 6px;
}
.pair .el-button {
  margin: 0;
}
</style>
