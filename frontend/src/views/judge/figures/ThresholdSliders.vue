<script setup lang="ts">
/** Minimum score and overlap limit. They act at once. */
import FigureSlider from "@/parts/FigureSlider.vue";

const score = defineModel<number>("score", { required: true });
const overlap = defineModel<number>("overlap", { required: true });
</script>

<template>
  <div class="sliders">
    <FigureSlider v-model="score" label="Minimum score" :min="0.01" :max="0.99" :step="0.01" data-test="score-slider" />
    <FigureSlider v-model="overlap" label="Overlap limit" :min="0" :max="1" :step="0.01" data-test="overlap-slider" />
  </div>
</template>

<style scoped>
.sliders {
  display: flex;
  gap: 30px;
}
</style>
