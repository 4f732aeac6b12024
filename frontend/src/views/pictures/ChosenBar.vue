<script setup lang="ts">
/** What can be done with the selected pictures; all of it can be undone. */
import { ref } from "vue";

import { api, type Part, take } from "@/api/client";
import { capital, whole } from "@/parts/format";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";

const props = defineProps<{ chosen: number[]; binned: boolean; tags: string[] }>();
const emit = defineEmits<{ changed: []; none: [] }>();
const store = useProject();
const parts = ["training", "validation", "test"] as const;
const tag = ref("");
const here = () => ({ path: { project_id: store.id } });

async function setPart(part: Part | null): Promise<void> {
  try {
    const body = { ids: [...props.chosen], part };
    said(
      await store.madeBy("set_part", take(api.PUT("/api/v1/projects/{project_id}/parts", { params: here(), body }))),
    );
  } catch (error) {
    complain(error);
  }
}

function said(made: { change_id: number | null; title: string }): void {
  emit("changed");
  store.sayChange(made.title, made.change_id, () => emit("changed"));
}

async function setBinned(binned: boolean): Promise<void> {
  if (!props.chosen.length) return;
  try {
    const body = { ids: [...props.chosen], binned };
    said(
      await store.madeBy("set_binned", take(api.PUT("/api/v1/projects/{project_id}/bin", { params: here(), body }))),
    );
  } catch (error) {
    complain(error);
  }
}

async function markDone(): Promise<void> {
  try {
    const body = { ids: [...props.chosen] };
    said(
      await store.madeBy("mark_done", take(api.PUT("/api/v1/projects/{project_id}/done", { params: here(), body }))),
    );
  } catch (error) {
    complain(error);
  }
}

async function setTag(on: boolean): Promise<void> {
  const wanted = tag.value.trim();
  if (!wanted) return;
  try {
    const body = { ids: [...props.chosen], tag: wanted, on };
    const made = await store.madeBy(
      "set_tag",
      take(api.PUT("/api/v1/projects/{project_id}/tags", { params: here(), body })),
    );
    tag.value = "";
    said(made);
  } catch (error) {
    complain(error);
  }
}

defineExpose({ setBinned });
</script>

<template>
  <div class="chosen-bar" data-test="chosen-bar">
    <b>{{ whole(chosen.length) }} selected</b>
    <span class="soft">Move to</span>
    <el-button v-for="part in parts" :key="part" size="small" @click="setPart(part)">{{ capital(part) }}</el-button>
    <el-button size="small" @click="setPart(null)">Unassigned</el-button>
    <form class="tagging" novalidate @submit.prevent="setTag(true)">
      <el-input v-model="tag" size="small" placeholder="Tag" aria-label="Tag" list="known-tags" data-test="tag" />
      <datalist id="known-tags"><option v-for="each in tags" :key="each" :value="each" /></datalist>
      <el-button size="small" native-type="submit" :disabled="!tag.trim()">Add tag</el-button>
      <el-button size="small" :disabled="!tag.trim()" @click="setTag(false)">Remove tag</el-button>
    </form>
    <el-button
      size="small"
      title="Those in progress: only what is done is counted, frozen and learnt from"
      data-test="mark-done"
      @click="markDone"
      >Mark as done</el-button
    >
    <el-button v-if="binned" size="small" @click="setBinned(false)">Restore</el-button>
    <el-button v-else v-hint="'Move the selected pictures to the bin'" size="small" @click="setBinned(true)"
      >Move to bin</el-button
    >
    <el-button size="small" link type="primary" @click="emit('none')">Clear selection</el-button>
  </div>
</template>

<style scoped>
.chosen-bar {
  display: flex;
  gap: 8px;
  align-items: center;
  padding: 8px 20px 8px 24px;
  border-bottom: 1px solid var(--rule);
  min-height: 44px;
  background: var(--leg-pale);
  white-space: nowrap;
}
.chosen-bar :deep(.el-button) {
  margin: 0;
}
.tagging {
  display: flex;
  gap: 6px;
  margin-left: 8px;
}
.tagging :deep(.el-input) {
  width: 92px;
}
</style>
