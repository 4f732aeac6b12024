<script setup lang="ts">
/** A probe of a few real steps: how long a run would take and how much memory it needs. */
import { computed, ref, watch } from "vue";

import type { Job } from "@/api/client";
import { count, duration } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";
import { type Draft, lookAhead, type Seen } from "@/views/train/ahead/runSettings";
import { wordsOf } from "@/state/notes";

const props = defineProps<{ draft: Draft }>();
const store = useProject();

const found = ref<Seen<"estimate"> | null>(null);
const stale = ref(false);
const job = ref<Job | null>(null);
const busy = ref(false);
const failed = ref("");
const training = computed(() =>
  store.openJobs.some((each) => ["train", "study"].includes(each.kind) && each.state === "running"),
);

async function estimate(): Promise<void> {
  if (busy.value) return;
  busy.value = true;
  failed.value = "";
  try {
    found.value = await lookAhead(props.draft, "estimate", 0, (each) => (job.value = each));
    stale.value = false;
  } catch (error) {
    failed.value = wordsOf(error);
  } finally {
    busy.value = false;
  }
}
watch(
  () => props.draft.settings,
  () => (stale.value = true),
  { deep: true },
);
useKeys([{ keys: ["Shift+e"], label: "Estimate time and memory", run: estimate }]);
const gigabytes = (bytes: number): string => `${(bytes / 1e9).toFixed(1)} GB`;
</script>

<template>
  <div class="panel" data-test="estimate-panel">
    <p>Trains a few steps with these settings, in a process of its own, and throws the outcome away.</p>
    <p v-if="training" class="notice">Another training is at work, so that the estimate will be too long.</p>
    <p class="line">
      <el-button
        v-hint="'Estimate time and memory'"
        type="primary"
        :disabled="busy"
        data-test="estimate"
        @click="estimate"
        >{{ found ? "Estimate again" : "Estimate" }}</el-button
      >
      <el-button v-if="busy && job" @click="store.stop(job.id)">Stop</el-button>
      <span v-if="busy" class="soft">Training a few steps…</span>
    </p>
    <p v-if="failed" class="notice bad">{{ failed }}</p>
    <template v-if="found">
      <p v-if="stale" class="notice">The settings changed since.</p>
      <dl :class="{ stale }" data-test="estimated">
        <div>
          <dt>In all</dt>
          <dd>{{ duration(found.seconds) }}</dd>
        </div>
        <div>
          <dt>An epoch</dt>
          <dd>{{ duration(found.seconds_per_epoch) }}</dd>
        </div>
        <div>
          <dt>A step</dt>
          <dd>
            {{
              found.seconds_per_step < 1
                ? `${(1000 * found.seconds_per_step).toFixed(0)} ms`
                : `${found.seconds_per_step.toFixed(1)} s`
            }}
          </dd>
        </div>
        <div>
          <dt>A validation</dt>
          <dd>{{ found.seconds_per_validation.toFixed(1) }} s</dd>
        </div>
        <div>
          <dt>Memory at most</dt>
          <dd>{{ gigabytes(found.peak_memory) }}</dd>
        </div>
      </dl>
      <p v-if="found.fits" class="soft">
        {{ count(found.epochs, "epoch") }} of {{ count(found.steps_per_epoch, "step") }}.
        {{ gigabytes(found.free_memory) }} of memory are free.
      </p>
      <p v-else class="notice bad">
        It needs nearly all of the {{ gigabytes(found.free_memory) }} that are free, or more. Choose a smaller batch,
        side or size.
      </p>
    </template>
  </div>
</template>

<style scoped>
.panel {
  display: grid;
  gap: 12px;
}
.line {
  display: flex;
  gap: 12px;
  align-items: center;
}
dl {
  display: flex;
  flex-wrap: wrap;
  gap: 12px 34px;
  margin: 0;
}
dl.stale {
  opacity: 0.6;
}
dt {
  font-size: 13px;
  color: var(--ink-soft);
}
dd {
  margin: 0;
  font: 560 21px/1.3 var(--serif);
}
</style>
