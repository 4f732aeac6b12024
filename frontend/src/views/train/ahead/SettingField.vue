<script setup lang="ts">
/** One setting of a training, drawn from what the server says of it: name, bounds, choices, explanation. */
import { computed } from "vue";

import { SETTINGS } from "@/api/declared";
import type { RunSettings } from "@/views/train/ahead/runSettings";

type Key = Exclude<keyof RunSettings, "augmentation" | "anchors">;

const settings = defineModel<RunSettings>({ required: true });
const props = defineProps<{
  name: Key;
  /** What it is while nobody has chosen it. */
  open?: number;
}>();
const said = computed(() => SETTINGS[props.name]!);
const value = computed(() => settings.value[props.name] ?? props.open);

function set(next: unknown): void {
  Object.assign(settings.value, { [props.name]: next ?? null });
}
</script>

<template>
  <label>
    {{ said.title }}
    <el-select v-if="said.choices" :model-value="value" size="small" :aria-label="said.title" @update:model-value="set">
      <el-option v-for="(label, key) in said.choices" :key="key" :value="key" :label="label" />
    </el-select>
    <el-switch
      v-else-if="typeof said.first === 'boolean'"
      :model-value="value === true"
      size="small"
      :aria-label="said.title"
      @update:model-value="set" />
    <el-input-number
      v-else
      :model-value="Number(value)"
      :min="said.least"
      :max="said.most"
      :step="said.step"
      :step-strictly="name === 'side'"
      size="small"
      :aria-label="said.title"
      @update:model-value="set" />
  </label>
  <span
    ><slot :says="said.says">{{ said.says }}</slot></span
  >
</template>

<style scoped>
label {
  display: grid;
  grid-template-columns: 120px 122px;
  align-items: center;
  font-weight: 600;
}
span {
  font-size: 13px;
  color: var(--ink-soft);
  line-height: 1.25;
}
</style>
