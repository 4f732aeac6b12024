<script setup lang="ts">
/** A run's best model to take away: as a bundle, or as ONNX with a script for other programs. */
import { ref } from "vue";

import { api, take } from "@/api/client";
import { useKeys } from "@/state/keys";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";

const props = defineProps<{ runId: number }>();
const store = useProject();
const bundle = ref<HTMLAnchorElement>();
const onnx = ref<HTMLAnchorElement>();
const busy = ref(false);

async function makeOnnx(): Promise<void> {
  if (busy.value) return;
  busy.value = true;
  try {
    const starting = take(api.POST("/api/v1/runs/{run_id}/onnx", { params: { path: { run_id: props.runId } } }));
    const { job } = await store.outcomeOf("write_onnx", starting);
    onnx.value?.setAttribute("href", `/api/v1/jobs/${job.id}/file`);
    onnx.value?.click();
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}

useKeys([{ keys: ["Shift+d"], label: "Download model", run: () => bundle.value?.click() }]);
</script>

<template>
  <el-dropdown trigger="click">
    <el-button v-hint="'Download model'" :loading="busy" data-test="download-model">Download model</el-button>
    <template #dropdown>
      <el-dropdown-menu>
        <a class="way" :href="`/api/v1/runs/${runId}/model/best`" data-test="download-bundle"
          >Model bundle<small>for Avocet: detect, evaluate, judge</small></a
        >
        <button class="way" type="button" :disabled="busy" data-test="download-onnx" @click="makeOnnx">
          ONNX and a script<small>for other programs: needs NumPy and ONNX Runtime only</small>
        </button>
      </el-dropdown-menu>
    </template>
  </el-dropdown>
  <a ref="bundle" :href="`/api/v1/runs/${runId}/model/best`" hidden aria-hidden="true" tabindex="-1" />
  <a ref="onnx" download hidden aria-hidden="true" tabindex="-1" />
</template>

<style scoped>
.way {
  display: grid;
  width: 100%;
  padding: 7px 16px;
  border: 0;
  background: none;
  font: inherit;
  font-size: 14px;
  color: inherit;
  text-align: left;
  text-decoration: none;
  cursor: pointer;
}
.way:hover,
.way:focus-visible {
  background: var(--paper-deep);
}
small {
  color: var(--ink-soft);
}
</style>
