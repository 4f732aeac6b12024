<script setup lang="ts">
/** What can be done with the chosen pictures; all of it can be taken back. */
import { ref } from "vue";

import { api, type Part, take } from "@/api/client";
import { capital, count } from "@/parts/format";
import { complain, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";

const props = defineProps<{ chosen: number[]; binned: boolean; tags: string[] }>();
const emit = defineEmits<{ changed: []; none: [] }>();
const store = useProject();
const parts = ["training", "validation", "test"] as const;
const tag = ref("");

async function idsIn(part: Part | null): Promise<number[]> {
  const query = part ? { part } : { no_part: true };
  const found = await take(
    api.GET("/api/v1/projects/{project_id}/picture-ids", { params: { path: { project_id: store.id }, query } }),
  );
  return found.ids;
}

function putPart(ids: number[], part: Part | null) {
  return take(api.PUT("/api/v1/projects/{project_id}/parts", { params: { path: { project_id: store.id } }, body: { ids, part } }));
}

async function setPart(part: Part | null): Promise<void> {
  const ids = [...props.chosen];
  const mine = new Set(ids);
  try {
    const before = new Map<Part | null, number[]>();
    for (const old of [...parts, null]) before.set(old, (await idsIn(old)).filter((id) => mine.has(id)));
    const { changed } = await putPart(ids, part);
    emit("changed");
    sayWithUndo(`${count(changed, "picture")} moved to ${part ?? "no part"}`, async () => {
      for (const [old, some] of before) if (some.length) await putPart(some, old);
      emit("changed");
    });
  } catch (error) {
    complain(error);
  }
}

async function setBinned(binned: boolean): Promise<void> {
  const ids = [...props.chosen];
  if (!ids.length) return;
  const put = (value: boolean) =>
    take(api.PUT("/api/v1/projects/{project_id}/bin", { params: { path: { project_id: store.id } }, body: { ids, binned: value } }));
  try {
    const { changed } = await put(binned);
    emit("changed");
    sayWithUndo(`${count(changed, "picture")} ${binned ? "put into the bin" : "taken back"}`, async () => {
      await put(!binned);
      emit("changed");
    });
  } catch (error) {
    complain(error);
  }
}

async function setTag(on: boolean): Promise<void> {
  const wanted = tag.value.trim();
  if (!wanted) return;
  const put = (ids: number[], value: boolean) =>
    take(api.PUT("/api/v1/projects/{project_id}/tags", { params: { path: { project_id: store.id } }, body: { ids, tag: wanted, on: value } }));
  try {
    const { ids } = await put([...props.chosen], on);
    tag.value = "";
    emit("changed");
    sayWithUndo(`${count(ids.length, "picture")} ${on ? "tagged" : "no longer tagged"} ${wanted}`, async () => {
      await put(ids, !on);
      emit("changed");
    });
  } catch (error) {
    complain(error);
  }
}

defineExpose({ setBinned });
</script>

<template>
  <div class="chosen-bar" data-test="chosen-bar">
    <b>{{ count(chosen.length, "picture") }} chosen</b>
    <span class="soft">Move to</span>
    <el-button v-for="part in parts" :key="part" size="small" @click="setPart(part)">{{ capital(part) }}</el-button>
    <el-button size="small" @click="setPart(null)">No part</el-button>
    <form class="tagging" novalidate @submit.prevent="setTag(true)">
      <el-input v-model="tag" size="small" placeholder="Tag" aria-label="Tag" list="known-tags" data-test="tag" />
      <datalist id="known-tags"><option v-for="each in tags" :key="each" :value="each" /></datalist>
      <el-button size="small" native-type="submit" :disabled="!tag.trim()">Put on</el-button>
      <el-button size="small" :disabled="!tag.trim()" @click="setTag(false)">Take off</el-button>
    </form>
    <el-button v-if="binned" size="small" @click="setBinned(false)">Take back</el-button>
    <el-button v-else size="small" @click="setBinned(true)">Put into the bin</el-button>
    <el-button size="small" link type="primary" @click="emit('none')">Choose none</el-button>
  </div>
</template>

<style scoped>
.chosen-bar { display: flex; gap: 8px; align-items: center; padding: 8px 24px; border-bottom: 1px solid var(--rule); min-height: 44px; background: var(--leg-pale); white-space: nowrap; }
.chosen-bar :deep(.el-button) { margin: 0; }
.tagging { display: flex; gap: 6px; margin-left: 8px; }
.tagging :deep(.el-input) { width: 110px; }
</style>
