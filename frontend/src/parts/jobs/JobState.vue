<script setup lang="ts">
/** How a job stands, in a word and a bar. */
import { computed } from "vue";

import type { Job } from "@/api/client";
import { capital, duration } from "@/parts/format";

const props = defineProps<{ job: Job }>();
const percent = computed(() => (props.job.total ? Math.floor((100 * props.job.done) / props.job.total) : 0));
const running = computed(() => props.job.state === "running" || props.job.state === "waiting");
</script>

<template>
  <span class="job-state" :class="job.state" data-test="job-state">
    <template v-if="running">
      <el-progress :percentage="percent" :stroke-width="6" :show-text="false" class="bar" :aria-label="job.title" />
      <span>
        {{ percent }} %<template v-if="job.stop_requested">, stopping</template
        ><template v-else-if="job.state === 'waiting'">, waiting</template
        ><template v-else-if="job.seconds_left !== null">, {{ duration(job.seconds_left) }} left</template>
      </span>
    </template>
    <template v-else>{{ capital(job.state) }}</template>
  </span>
</template>

<style scoped>
.job-state {
  display: inline-flex;
  align-items: center;
  gap: 8px;
}
.bar {
  width: 90px;
}
.done {
  color: var(--reed-deep);
}
.failed,
.interrupted {
  color: var(--brick);
}
</style>
