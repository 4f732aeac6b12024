<script setup lang="ts">
/** What can be said of boxes of a class beside the class itself: flags, choices, numbers. */
import { computed } from "vue";

import { useProject } from "@/state/project";

const props = defineProps<{ classId: number; values: Record<string, unknown> }>();
const emit = defineEmits<{ attribute: [name: string, value: unknown] }>();
const store = useProject();

const attributes = computed(() =>
  store.attributes.filter((each) => each.class_id === null || each.class_id === props.classId),
);
const flags = computed(() => store.attributes.filter((each) => each.kind === "flag"));

function amount(name: string): number | undefined {
  const value = props.values[name];
  return typeof value === "number" ? value : undefined;
}
function text(name: string): string {
  const value = props.values[name];
  return typeof value === "string" ? value : "";
}
</script>

<template>
  <div v-for="each in attributes" :key="each.id" class="attribute">
    <el-checkbox
      v-if="each.kind === 'flag'"
      size="small"
      :model-value="values[each.name] === true"
      @change="emit('attribute', each.name, $event)">
      {{ each.name }} <kbd v-if="flags.indexOf(each) < 9">Alt {{ flags.indexOf(each) + 1 }}</kbd>
    </el-checkbox>
    <label v-else-if="each.kind === 'choice'">
      {{ each.name }}
      <el-select
        size="small"
        clearable
        placeholder="–"
        :model-value="text(each.name)"
        @change="emit('attribute', each.name, $event)">
        <el-option v-for="choice in each.choices" :key="choice" :value="choice" :label="choice" />
      </el-select>
    </label>
    <label v-else>
      {{ each.name }}
      <el-input-number
        size="small"
        controls-position="right"
        :model-value="amount(each.name)"
        @change="emit('attribute', each.name, $event)" />
    </label>
  </div>
</template>

<style scoped>
.attribute {
  display: flex;
  align-items: center;
  justify-content: space-between;
  min-height: 26px;
}
.attribute > label:not(.el-checkbox) {
  display: flex;
  align-items: center;
  gap: 8px;
  width: 100%;
  justify-content: space-between;
}
.attribute :deep(.el-select),
.attribute :deep(.el-input-number) {
  width: 110px;
}
.attribute :deep(.el-checkbox) {
  --el-checkbox-font-size: 14px;
  height: 24px;
}
</style>
