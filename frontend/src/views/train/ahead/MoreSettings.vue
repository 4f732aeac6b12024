<script setup lang="ts">
/** What seldom needs to be changed: one line each, with what it does. */
import type { Plan } from "@/api/client";
import type { RunSettings } from "@/views/train/ahead/runSettings";
import SettingField from "@/views/train/ahead/SettingField.vue";

const settings = defineModel<RunSettings>({ required: true });
defineProps<{ plan: Plan }>();
const names = [
  "optimizer",
  "warm_up",
  "schedule",
  "weight_decay",
  "patience",
  "average",
  "best_by",
  "keep_every",
  "box_weight",
  "objectness_weight",
  "class_weight",
  "number_format",
  "multi_scale",
  "seed",
] as const;
</script>

<template>
  <div class="fields">
    <SettingField v-model="settings" name="passes" :open="plan.passes" />
    <SettingField v-for="name in names" :key="name" v-model="settings" :name="name" />
  </div>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: auto minmax(0, 1fr);
  gap: 6px 12px;
  align-items: center;
  margin-top: 8px;
}
</style>
