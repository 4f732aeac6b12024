<script setup lang="ts">
/** One of the project's models: a run, or several models combined. */
import type { Address, Ensemble, Run } from "@/api/client";
import { precision } from "@/parts/format";
import { answering } from "@/views/use/models";

const model = defineModel<string>({ required: true });
defineProps<{
  runs: Run[];
  ensembles: Ensemble[];
  addresses?: Address[];
  label: string;
  placeholder?: string;
  size?: "small";
}>();
</script>

<template>
  <el-select v-model="model" :placeholder="placeholder" :size="size" :aria-label="label">
    <el-option
      v-for="each in runs"
      :key="each.id"
      :value="`run ${each.id}`"
      :label="`${each.name}, mAP ${precision(each.best_map50)} at 0.5`" />
    <el-option
      v-for="each in ensembles"
      :key="`e${each.id}`"
      :value="`ensemble ${each.id}`"
      :label="`${each.name}, ${each.members.length} models combined`" />
    <el-option
      v-for="each in addresses ?? []"
      :key="`a${each.id}`"
      :value="`address ${each.id}`"
      :label="`Address ${each.name}, ${answering(each)?.name}`" />
  </el-select>
</template>
