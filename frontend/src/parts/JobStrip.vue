<script setup lang="ts">
/** Long work that is going on: how far, how long yet, and a way to stop it. */
import { useProject } from "@/state/project";
import { duration } from "@/parts/format";
import { complain } from "@/state/notes";

const store = useProject();

async function stop(id: number): Promise<void> {
  try {
    await store.stop(id);
  } catch (error) {
    complain(error);
  }
}
</script>

<template>
  <div v-for="job in store.openJobs" :key="job.id" class="job" data-test="job">
    <div class="title">{{ job.title }}</div>
    <el-progress
      :percentage="job.total ? Math.floor((100 * job.done) / job.total) : 0"
      :show-text="false"
      :stroke-width="5"
      :aria-label="job.title"
    />
    <div class="line">
      <span class="soft">
        <template v-if="job.state === 'waiting'">Waiting</template>
        <template v-else-if="job.stop_requested">Stopping</template>
        <template v-else-if="job.seconds_left !== null">{{ duration(job.seconds_left) }} left</template>
        <template v-else>Starting</template>
      </span>
      <el-button link type="primary" size="small" :disabled="job.stop_requested" @click="stop(job.id)">Stop</el-button>
    </div>
  </div>
</template>

<style scoped>
.job { border-top: 1px solid var(--rule); padding-top: 8px; font-size: 13px; }
.title { margin-bottom: 4px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.line { display: flex; justify-content: space-between; align-items: center; }
</style>
