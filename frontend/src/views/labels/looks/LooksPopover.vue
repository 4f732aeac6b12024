<script setup lang="ts">
/** How pictures and boxes are shown: lines, labels, dimming, light. */
import { FIRST_LOOKS, looks } from "@/views/labels/looks/looks";
import { inputSide } from "@/state/remembered";

const open = defineModel<boolean>("open", { required: true });
const badges = [
  { value: "number", label: "Number" },
  { value: "name", label: "Name" },
  { value: "none", label: "Nothing" },
];
</script>

<template>
  <!-- Not there until it is opened: its sliders would take longer to make than the rest of the view. -->
  <el-popover :visible="open" placement="bottom-end" :width="350" trigger="click" :persistent="false">
    <template #reference>
      <el-button data-test="looks" :aria-expanded="open" @click="open = !open">View</el-button>
    </template>
    <div class="looks" data-test="looks-panel">
      <label class="slide"
        >Line width <el-slider v-model="looks.width" :min="0.6" :max="5" :step="0.2" aria-label="Line width"
      /></label>
      <label class="slide"
        >Dimmed boxes <el-slider v-model="looks.faint" :min="0" :max="0.8" :step="0.05" aria-label="Dimmed boxes"
      /></label>
      <label class="slide"
        >Brightness <el-slider v-model="looks.brightness" :min="40" :max="400" :step="10" aria-label="Brightness"
      /></label>
      <label class="slide"
        >Contrast <el-slider v-model="looks.contrast" :min="40" :max="300" :step="10" aria-label="Contrast"
      /></label>
      <div class="line">
        Label
        <el-radio-group v-model="looks.badge" size="small">
          <el-radio-button v-for="each in badges" :key="each.value" :value="each.value" :label="each.label" />
        </el-radio-group>
      </div>
      <div class="line">
        Input side
        <el-input-number v-model="inputSide" :min="64" :max="4096" :step="32" size="small" aria-label="Input side" />
      </div>
      <el-checkbox v-model="looks.tighten" size="small">Tighten every box when it is drawn</el-checkbox>
      <p class="line">
        <el-button size="small" @click="looks = { ...FIRST_LOOKS }">Reset</el-button>
        <el-button size="small" @click="open = false">Close</el-button>
      </p>
    </div>
  </el-popover>
</template>

<style scoped>
.looks {
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: 6px;
  font-size: 14px;
}
.slide {
  display: grid;
  grid-template-columns: 100px minmax(0, 1fr);
  padding-right: 10px;
  align-items: center;
  gap: 10px;
}
.line :deep(.el-radio-group) {
  flex-wrap: nowrap;
}
.line {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
</style>
