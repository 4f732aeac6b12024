<script setup lang="ts">
/** Minimum score and overlap limit. They act at once. */
const score = defineModel<number>("score", { required: true });
const overlap = defineModel<number>("overlap", { required: true });
</script>

<template>
  <div class="sliders">
    <label data-test="score-slider">
      <span
        >Minimum score <b>{{ score.toFixed(2) }}</b></span
      >
      <el-slider
        v-model="score"
        :min="0.01"
        :max="0.99"
        :step="0.01"
        :show-tooltip="false"
        aria-label="Minimum score" />
    </label>
    <label data-test="overlap-slider">
      <span
        >Overlap limit <b>{{ overlap.toFixed(2) }}</b></span
      >
      <el-slider v-model="overlap" :min="0" :max="1" :step="0.01" :show-tooltip="false" aria-label="Overlap limit" />
    </label>
  </div>
</template>

<style scoped>
.sliders {
  display: flex;
  gap: 30px;
}
label {
  display: grid;
  width: 190px;
}
label span {
  font-size: 14px;
}
.sliders :deep(.el-slider) {
  --el-slider-height: 4px;
  --el-slider-button-size: 15px;
  height: 22px;
}
</style>
