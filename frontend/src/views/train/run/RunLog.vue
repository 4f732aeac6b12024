<script setup lang="ts">
/** The run's log as it grows. */
import { nextTick, onMounted, ref, watch } from "vue";

import { api, take } from "@/api/client";
import { complain } from "@/state/notes";

const props = defineProps<{ runId: number; latest: number; state: string }>();
const lines = ref<string[]>([]);
const place = ref<HTMLPreElement>();

async function load(): Promise<void> {
  try {
    const found = await take(api.GET("/api/v1/runs/{run_id}/log", { params: { path: { run_id: props.runId } } }));
    const atEnd = !place.value || place.value.scrollTop + place.value.clientHeight >= place.value.scrollHeight - 30;
    lines.value = found.lines;
    await nextTick();
    if (atEnd && place.value) place.value.scrollTop = place.value.scrollHeight;
  } catch (error) {
    complain(error);
  }
}
onMounted(load);
watch(() => [props.latest, props.state], load);
</script>

<template>
  <p v-if="!lines.length" class="soft">Nothing is written yet.</p>
  <!-- eslint-disable-next-line vuejs-accessibility/no-static-element-interactions -->
  <pre v-else ref="place" tabindex="0" data-test="log">{{ lines.join("\n") }}</pre>
</template>

<style scoped>
pre {
  margin: 0;
  height: 100%;
  overflow: auto;
  font:
    13px/1.5 ui-monospace,
    "DejaVu Sans Mono",
    monospace;
  background: var(--paper-deep);
  padding: 8px 12px;
  white-space: pre-wrap;
}
</style>
