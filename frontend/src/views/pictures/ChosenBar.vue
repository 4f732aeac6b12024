<script setup lang="ts">
/** What can be done with the selected pictures; all of it can be undone. */
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

async function setPart(part: Part | null): Promise<void> {
  try {
    const change = await take(
      api.PUT("/api/v1/projects/{project_id}/parts", {
        params: { path: { project_id: store.id } },
        body: { ids: [...props.chosen], part },
      }),
    );
    emit("changed");
    sayWithUndo(change.title, async () => {
      await store.undoChange(change.id);
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
    take(
      api.PUT("/api/v1/projects/{project_id}/bin", {
        params: { path: { project_id: store.id } },
        body: { ids, binned: value },
      }),
    );
  try {
    const { changed } = await put(binned);
    emit("changed");
    sayWithUndo(`${count(changed, "picture")} ${binned ? "moved to the bin" : "restored"}`, async () => {
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
    take(
      api.PUT("/api/v1/projects/{project_id}/tags", {
        params: { path: { project_id: store.id } },
        body: { ids, tag: wanted, on: value },
      }),
    );
  try {
    const { ids } = await put([...props.chosen], on);
    tag.value = "";
    emit("changed");
    sayWithUndo(`${count(ids.length, "picture")} ${on ? "tagged" : "without the tag"} ${wanted}`, async () => {
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
    <b>{{ count(chosen.length, "picture") }} selected</b>
    <span class="soft">Move to</span>
    <el-button v-for="part in parts" :key="part" size="small" @click="setPart(part)">{{ capital(part) }}</el-button>
    <el-button size="small" @click="setPart(null)">Unassigned</el-button>
    <form class="tagging" novalidate @submit.prevent="setTag(true)">
      <el-input v-model="tag" size="small" placeholder="Tag" aria-label="Tag" list="known-tags" data-test="tag" />
      <datalist id="known-tags"><option v-for="each in tags" :key="each" :value="each" /></datalist>
      <el-button size="small" native-type="submit" :disabled="!tag.trim()">Add tag</el-button>
      <el-button size="small" :disabled="!tag.trim()" @click="setTag(false)">Remove tag</el-button>
    </form>
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
  padding: 8px 24px;
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
  width: 110px;
}
</style>
