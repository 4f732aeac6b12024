<script setup lang="ts">
/** Classes of a model that the project does not have: what each is called here, or left out. */
import { ref, watch } from "vue";

import { api, take } from "@/api/client";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import { numbersOf } from "@/views/use/models";

const props = defineProps<{ model: string }>();
/** By the model's names. */
const named = defineModel<Record<string, string>>({ required: true });
const store = useProject();
const missing = ref<string[]>([]);

watch(
  () => props.model,
  async (model) => {
    missing.value = [];
    named.value = {};
    if (!model) return;
    const { run_id, ensemble_id } = numbersOf(model);
    const query = run_id ? { run_id } : { ensemble_id: ensemble_id ?? undefined };
    try {
      const found = await take(api.GET("/api/v1/model-classes", { params: { query } }));
      if (model === props.model) missing.value = found.missing;
    } catch (error) {
      complain(error);
    }
  },
  { immediate: true },
);

function name(of: string, as: string): void {
  const rest = Object.fromEntries(Object.entries(named.value).filter(([each]) => each !== of));
  named.value = as ? { ...rest, [of]: as } : rest;
}
</script>

<template>
  <div v-if="missing.length" class="names" data-test="missing-classes">
    <p>The model finds classes that this project does not have. What are they here?</p>
    <label v-for="each in missing" :key="each">
      <span>{{ each }}</span>
      <el-select
        size="small"
        clearable
        placeholder="Left out"
        :aria-label="`What ${each} is here`"
        :model-value="named[each] ?? ''"
        @change="name(each, $event)">
        <el-option v-for="own in store.classes" :key="own.id" :value="own.name" :label="own.name" />
      </el-select>
    </label>
  </div>
</template>

<style scoped>
.names {
  display: grid;
  gap: 6px;
}
label {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: 12px;
}
label :deep(.el-select) {
  width: 200px;
}
</style>
