<script setup lang="ts">
/** A slider with its name and its figure beside it. */
import { computed } from "vue";

import { threshold } from "@/parts/format";

const value = defineModel<number>({ required: true });
const props = defineProps<{ label: string; min: number; max: number; step: number }>();
const shown = computed(() => (props.step < 1 ? threshold(value.value) : value.value.toFixed(0)));
</script>

<template>
  <label class="figure-slider">
    <span>
      {{ label }} <b>{{ shown }}</b>
    </span>
    <el-slider
      v-model="value"
      :min="min"
      :max="max"
      :step="step"
      :show-tooltip="false"
      size="small"
      :aria-label="label" />
  </label>
</template>

<style scoped>
.figure-slider {
  display: grid;
  width: 190px;
  font-size: 14px;
  font-weight: 400;
}
.figure-slider :deep(.el-slider) {
  --el-slider-height: 4px;
  --el-slider-button-size: 15px;
  height: 22px;
}
</style>
