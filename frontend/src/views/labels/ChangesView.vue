<script setup lang="ts">
/** Changes to many pictures or classes at once, newest first: each can be undone, however long ago it was. */
import { onMounted, ref } from "vue";

import { api, type Change, take } from "@/api/client";
import { day } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import CollectHead from "@/views/pictures/CollectHead.vue";

const store = useProject();
const changes = ref<Change[]>([]);
const loaded = ref(false);
const failed = ref("");
const undoing = ref<number | null>(null);

async function load(): Promise<void> {
  try {
    const path = { project_id: store.id };
    changes.value = (await take(api.GET("/api/v1/projects/{project_id}/changes", { params: { path } }))).changes;
    failed.value = "";
    loaded.value = true;
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

async function undo(change: Change | undefined): Promise<void> {
  if (!change || undoing.value !== null) return;
  undoing.value = change.id;
  try {
    await store.undoChange(change.id);
    await load();
  } catch (error) {
    complain(error);
  } finally {
    undoing.value = null;
  }
}

onMounted(load);
useKeys([
  { keys: ["Ctrl+z"], label: "Undo the latest change", run: () => undo(changes.value.find((each) => !each.undone)) },
]);
</script>

<template>
  <div class="view">
    <CollectHead />
    <div class="view-body">
      <p v-if="failed" class="notice bad">
        {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
      </p>
      <div v-else-if="loaded && !changes.length" class="empty">
        <h2>No changes yet</h2>
        <p class="soft">What changes many pictures or a class at once is kept here, and can be undone from here.</p>
      </div>
      <template v-else-if="loaded">
        <p class="soft">Undo restores what nobody has worked on since; the rest stays as it is.</p>
        <table class="figures">
          <thead>
            <tr>
              <th>Change</th>
              <th>When</th>
              <th />
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in changes" :key="each.id" data-test="change">
              <td>{{ each.title }}</td>
              <td class="soft">{{ day(each.made_at) }}</td>
              <td>
                <span v-if="each.undone" class="soft">Undone</span>
                <el-button
                  v-else
                  size="small"
                  :loading="undoing === each.id"
                  data-test="undo-change"
                  @click="undo(each)"
                  >Undo</el-button
                >
              </td>
            </tr>
          </tbody>
        </table>
      </template>
    </div>
  </div>
</template>

<style scoped>
table {
  max-width: 760px;
}
.empty {
  display: grid;
  gap: 12px;
  justify-items: center;
  padding: 60px 0;
  text-align: center;
}
</style>
