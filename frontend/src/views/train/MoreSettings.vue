<script setup lang="ts">
/** What seldom needs to be changed: one line each, with what it does. */
import type { Plan } from "@/api/client";
import type { RunSettings } from "@/views/train/runSettings";

const settings = defineModel<RunSettings>({ required: true });
defineProps<{ plan: Plan }>();
const optimizers = [
  { value: "adamw", label: "AdamW" },
  { value: "sgd", label: "SGD with momentum" },
];
const schedules = [
  { value: "cosine", label: "Half a cosine" },
  { value: "linear", label: "A straight line" },
  { value: "constant", label: "Stays" },
];
const formats = [
  { value: "auto", label: "Measured" },
  { value: "float32", label: "float32" },
  { value: "bfloat16", label: "bfloat16" },
];
const measures = [
  { value: "map", label: "mAP 0.50:0.95" },
  { value: "map50", label: "mAP at 0.5" },
  { value: "loss", label: "Validation loss" },
];
</script>

<template>
  <div class="fields">
    <label>Passes <el-input-number :model-value="settings.passes ?? plan.passes" :min="1" :max="10000" size="small" aria-label="Passes" @update:model-value="settings.passes = $event ?? null" /></label>
    <span>times an epoch goes through the pictures before it is measured</span>
    <label>Optimiser <el-select v-model="settings.optimizer" size="small" aria-label="Optimiser"><el-option v-for="each in optimizers" :key="each.value" v-bind="each" /></el-select></label>
    <span>how weights follow the gradient; SGD wants a rate near 0.01</span>
    <label>Warm-up <el-input-number v-model="settings.warm_up" :min="0" :max="0.5" :step="0.01" size="small" aria-label="Warm-up" /></label>
    <span>share of the steps in which the rate rises</span>
    <label>Schedule <el-select v-model="settings.schedule" size="small" aria-label="Schedule"><el-option v-for="each in schedules" :key="each.value" v-bind="each" /></el-select></label>
    <span>how the learning rate falls after that</span>
    <label>Weight decay <el-input-number v-model="settings.weight_decay" :min="0" :max="1" :step="0.005" size="small" aria-label="Weight decay" /></label>
    <span>pulls weights towards 0, against learning by heart</span>
    <label>Patience <el-input-number v-model="settings.patience" :min="0" :max="10000" size="small" aria-label="Patience" /></label>
    <span>ends after so many epochs without a better one; 0 never</span>
    <label>Averaging <el-input-number v-model="settings.average" :min="0" :max="0.9999" :step="0.001" size="small" aria-label="Averaging" /></label>
    <span>how slowly the averaged weights follow; 0 is off</span>
    <label>Best by <el-select v-model="settings.best_by" size="small" aria-label="Best by"><el-option v-for="each in measures" :key="each.value" v-bind="each" /></el-select></label>
    <span>what makes an epoch the best</span>
    <label>Keep every <el-input-number v-model="settings.keep_every" :min="0" :max="10000" size="small" aria-label="Keep every" /></label>
    <span>also keeps each so manieth epoch; 0 keeps latest and best</span>
    <label>Box loss <el-input-number v-model="settings.box_weight" :min="0.01" :max="100" :step="0.5" size="small" aria-label="Box loss" /></label>
    <span>weight of where a box lies</span>
    <label>Object loss <el-input-number v-model="settings.objectness_weight" :min="0.01" :max="100" :step="0.5" size="small" aria-label="Object loss" /></label>
    <span>weight of whether there is one</span>
    <label>Class loss <el-input-number v-model="settings.class_weight" :min="0" :max="100" :step="0.5" size="small" aria-label="Class loss" /></label>
    <span>weight of what it is</span>
    <label>Numbers <el-select v-model="settings.number_format" size="small" aria-label="Number format"><el-option v-for="each in formats" :key="each.value" v-bind="each" /></el-select></label>
    <span>bfloat16 is quicker on some processors; that is measured</span>
    <label>Multi-scale <el-switch v-model="settings.multi_scale" size="small" aria-label="Multi-scale" /></label>
    <span>another side every ten batches, in steps of 32</span>
    <label>Seed <el-input-number v-model="settings.seed" :min="0" :max="4294967295" size="small" aria-label="Seed" /></label>
    <span>the same seed gives the same weights</span>
  </div>
</template>

<style scoped>
.fields { display: grid; grid-template-columns: auto minmax(0, 1fr); gap: 6px 12px; align-items: center; margin-top: 8px; }
label { display: grid; grid-template-columns: 96px 122px; align-items: center; font-weight: 600; }
span { font-size: 13px; color: var(--ink-soft); line-height: 1.25; }
</style>
