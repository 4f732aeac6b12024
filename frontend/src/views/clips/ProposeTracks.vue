<script setup lang="ts">
/** A model proposes the objects of a clip: found on every frame, linked, and told by few boxes. */
import { computed, ref } from "vue";

import { api, type ClipDetail, take } from "@/api/client";
import { count } from "@/parts/format";
import { complain, say } from "@/state/notes";
import { useProject } from "@/state/project";
import ProposingModel, { type ProposingChoice } from "@/views/models/ProposingModel.vue";

const shown = defineModel<boolean>({ required: true });
const props = defineProps<{ clip: ClipDetail }>();
const emit = defineEmits<{ proposed: [] }>();
const store = useProject();

const choice = ref<ProposingChoice | null>(null);
const frames = computed(() => (props.clip.last ?? props.clip.times.length - 1) - props.clip.first + 1);
const jobId = ref(0);
const job = computed(() => store.jobs.get(jobId.value));

async function propose(): Promise<void> {
  if (!choice.value) return;
  const params = { path: { clip_id: props.clip.id } };
  try {
    const asking = take(api.POST("/api/v1/clips/{clip_id}/proposed", { params, body: choice.value }));
    const { outcome } = await store.outcomeOf("propose_tracks", asking, (started) => (jobId.value = started.id));
    const known = outcome.known ? `; ${outcome.known} are labelled or were refused already` : "";
    say(`${count(outcome.tracks, "object")} proposed${known}`);
    emit("proposed");
    shown.value = false;
  } catch (error) {
    complain(error);
  } finally {
    jobId.value = 0;
  }
}
</script>

<template>
  <el-dialog v-model="shown" title="Let a model propose objects" width="480">
    <div class="body" data-test="propose">
      <ProposingModel v-if="shown" v-model="choice">
        <p class="soft">
          On {{ frames === clip.times.length ? `all ${frames}` : `${frames} of ${clip.times.length}` }} frames of
          {{ clip.name }}. You keep or refuse each object; nothing is labelled by itself.
        </p>
      </ProposingModel>
      <template v-if="jobId">
        <el-progress
          :percentage="Math.floor((100 * (job?.done ?? 0)) / Math.max(1, job?.total ?? 1))"
          :stroke-width="6" />
        <p class="soft">{{ job?.message || "Waiting for its turn" }}</p>
      </template>
    </div>
    <template #footer>
      <el-button v-if="jobId" @click="store.stop(jobId)">Stop</el-button>
      <el-button v-else @click="shown = false">Close</el-button>
      <el-button type="primary" :disabled="!choice" :loading="jobId > 0" data-test="start-proposing" @click="propose"
        >Propose</el-button
      >
    </template>
  </el-dialog>
</template>

<style scoped>
.body {
  display: grid;
  gap: 10px;
}
.body :deep(.figure-slider) {
  width: 100%;
}
</style>
