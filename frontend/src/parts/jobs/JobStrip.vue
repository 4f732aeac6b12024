<script setup lang="ts">
/** Long work that is going on: how far, how long yet, and a way to stop it. */
import { computed } from "vue";

import { api, take } from "@/api/client";
import { useProject } from "@/state/project";
import { duration } from "@/parts/format";
import { complain } from "@/state/notes";

const store = useProject();

/** Looks of a second or two are shown by the page that asked. */
const longJobs = computed(() => store.openJobs.filter((job) => !job.short));
/** What was broken off and keeps its work can go on where it was. */
const brokenOff = computed(() => [...store.jobs.values()].filter((job) => job.resumable).slice(0, 2));

async function resume(id: number): Promise<void> {
  try {
    await take(api.POST("/api/v1/jobs/{job_id}/resume", { params: { path: { job_id: id } } }));
  } catch (error) {
    complain(error);
  }
}

async function stop(id: number): Promise<void> {
  try {
    await store.stop(id);
  } catch (error) {
    complain(error);
  }
}
</script>

<template>
  <div v-for="job in longJobs" :key="job.id" class="job" data-test="job">
    <div class="title">{{ job.title }}</div>
    <el-progress
      :percentage="job.total ? Math.floor((100 * job.done) / job.total) : 0"
      :show-text="false"
      :stroke-width="5"
      :aria-label="job.title" />
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
  <div v-for="job in brokenOff" :key="job.id" class="job" data-test="broken-off">
    <div class="title">{{ job.title }}</div>
    <div class="line">
      <span class="soft">{{ job.state === "stopped" ? "Stopped" : "Interrupted" }}</span>
      <el-button link type="primary" size="small" @click="resume(job.id)">Resume</el-button>
    </div>
  </div>
</template>

<style scoped>
.job {
  border-top: 1px solid var(--rule);
  padding-top: 8px;
  font-size: 13px;
}
.title {
  margin-bottom: 4px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.line {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
</style>
