<script setup lang="ts">
/** What can be done with the selected pictures; all of it can be undone. */
import { ref } from "vue";

import { api, type Job, type Outcome, type Part, take } from "@/api/client";
import { capital, whole } from "@/parts/format";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";

const props = defineProps<{ chosen: number[]; binned: boolean; tags: string[] }>();
const emit = defineEmits<{ changed: []; none: [] }>();
const store = useProject();
const parts = ["training", "validation", "test"] as const;
const tag = ref("");
const here = () => ({ path: { project_id: store.id } });

/** Wait for a change, and say what it came to; returns whether it was made. */
async function made<K extends "set_part" | "set_binned" | "mark_done" | "set_tag">(
  kind: K,
  asking: Promise<Outcome<K> | { job: Job }>,
): Promise<boolean> {
  try {
    const change = await store.madeBy(kind, asking);
    emit("changed");
    store.sayChange(change.title, change.change_id, () => emit("changed"));
    return true;
  } catch (error) {
    complain(error);
    return false;
  }
}

const ids = () => [...props.chosen];

async function setPart(part: Part | null): Promise<void> {
  const body = { ids: ids(), part };
  await made("set_part", take(api.PUT("/api/v1/projects/{project_id}/parts", { params: here(), body })));
}

async function setBinned(binned: boolean): Promise<void> {
  if (!props.chosen.length) return;
  const body = { ids: ids(), binned };
  await made("set_binned", take(api.PUT("/api/v1/projects/{project_id}/bin", { params: here(), body })));
}

async function markDone(): Promise<void> {
  const body = { ids: ids() };
  await made("mark_done", take(api.PUT("/api/v1/projects/{project_id}/done", { params: here(), body })));
}

async function setTag(on: boolean): Promise<void> {
  const wanted = tag.value.trim();
  if (!wanted) return;
  const body = { ids: ids(), tag: wanted, on };
  if (await made("set_tag", take(api.PUT("/api/v1/projects/{project_id}/tags", { params: here(), body }))))
    tag.value = "";
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
