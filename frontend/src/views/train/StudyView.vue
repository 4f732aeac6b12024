<script setup lang="ts">
/** How many pictures? Trains on parts of the training pictures and foresees what more would be worth. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";

import { api, type Plan, type Study, take } from "@/api/client";
import { capital, count, day, duration, precision } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import PlainChart from "@/parts/charts/PlainChart.vue";
import { useKeys } from "@/state/keys";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import { useDraft } from "@/views/train/ahead/runSettings";
import WorkOn from "@/views/models/WorkOn.vue";
import TrainHead from "@/views/train/TrainHead.vue";

const store = useProject();
const live = useLiveJob();
const draft = useDraft();
const plan = ref<Plan | null>(null);
const studies = ref<Study[]>([]);
const chosenId = ref<number | null>(null);
const steps = ref(150);
const seeds = ref(1);
const failed = ref("");
const busy = ref(false);
const study = computed(() => studies.value.find((each) => each.id === chosenId.value) ?? studies.value[0] ?? null);
/** Several machines do not end in order. */
const measured = computed(() =>
  [...(study.value?.results ?? [])].sort((a, b) => a.seed - b.seed || a.pictures - b.pictures),
);
const job = computed(() => (study.value ? live(study.value.job) : null));
const active = computed(() => job.value?.state === "running" || job.value?.state === "waiting");
const resumable = computed(() => ["stopped", "failed", "interrupted"].includes(job.value?.state ?? ""));

async function load(): Promise<void> {
  try {
    const path = { project_id: store.id };
    const [planned, listed] = await Promise.all([
      take(
        api.GET("/api/v1/projects/{project_id}/plan", {
          params: {
            path,
            query: { side: draft.settings.side ?? undefined, snapshot_id: draft.snapshotId ?? undefined },
          },
        }),
      ),
      take(api.GET("/api/v1/projects/{project_id}/studies", { params: { path } })),
    ]);
    plan.value = planned;
    draft.settings.side ??= planned.side;
    studies.value = listed.studies;
    failed.value = "";
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

async function start(): Promise<void> {
  if (busy.value || plan.value?.obstacles.length) return;
  busy.value = true;
  try {
    const starting = take(
      api.POST("/api/v1/projects/{project_id}/studies", {
        params: { path: { project_id: store.id } },
        body: {
          snapshot_id: draft.snapshotId,
          settings: draft.settings,
          steps: steps.value,
          seeds: seeds.value,
          on_cluster: draft.onCluster,
        },
      }),
    );
    chosenId.value = (await store.outcomeOf("start_study", starting)).outcome.study_id;
    await load();
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
async function stop(): Promise<void> {
  if (job.value && active.value) await store.stop(job.value.id).catch(complain);
}
async function resume(): Promise<void> {
  if (!job.value || !resumable.value) return;
  try {
    await take(api.POST("/api/v1/jobs/{job_id}/resume", { params: { path: { job_id: job.value.id } } }));
  } catch (error) {
    complain(error);
  }
}

let seen = "";
const forget = store.onJob((changed) => {
  if (changed.id !== study.value?.job.id) return;
  const mark = `${changed.state} ${changed.message.split(",")[0]}`;
  if (mark !== seen) void load();
  seen = mark;
});
onMounted(load);
onBeforeUnmount(forget);
useKeys([
  { keys: ["Ctrl+Enter"], label: "Start the study", run: start },
  { keys: ["Ctrl+."], label: "Stop", run: stop },
  { keys: ["r"], label: "Resume", run: resume },
]);

const axis = { nameLocation: "middle" as const, nameGap: 24, splitLine: { lineStyle: { color: "#ddd7c9" } } };
const chart = computed(() => {
  const verdict = study.value?.verdict;
  const most = verdict
    ? 2 * verdict.pictures
    : Math.max(1, ...(study.value?.results ?? []).map((each) => each.pictures));
  return {
    grid: { left: 48, right: 16, top: 14, bottom: 42 },
    tooltip: {
      formatter: (each: { seriesName: string; value: number[] }) =>
        `${each.seriesName}: ${each.value[0]!.toFixed(0)} pictures, mAP ${each.value[1]!.toFixed(3)}`,
    },
    xAxis: { type: "value", name: "Training pictures", min: 0, max: most, ...axis },
    yAxis: { type: "value", name: "mAP at 0.50:0.95", min: 0, max: 1, ...axis, nameGap: 32 },
    series: [
      ...(verdict
        ? [
            {
              type: "line",
              name: "Fitted curve",
              showSymbol: false,
              lineStyle: { color: "#4A7397", width: 2 },
              data: verdict.curve,
            },
            {
              type: "line",
              name: "Range of all curves that fit",
              symbol: "rect",
              symbolSize: [14, 2],
              lineStyle: { color: "#8A6A2F", width: 3 },
              itemStyle: { color: "#8A6A2F" },
              data: [
                [most * 0.995, verdict.low],
                [most * 0.995, verdict.high],
              ],
            },
          ]
        : []),
      {
        type: "scatter",
        name: "Measured",
        symbolSize: 9,
        itemStyle: { color: "#15181b" },
        data: (study.value?.results ?? []).map((each) => [each.pictures, each.map]),
      },
    ],
  };
});
const minutes = computed(() => (job.value?.seconds_left ? duration(job.value.seconds_left) : ""));
</script>

<template>
  <div class="view">
    <TrainHead>
      <el-button v-if="active" v-hint="'Stop'" :disabled="job?.stop_requested" @click="stop">Stop</el-button>
      <el-button v-if="resumable" v-hint="'Resume'" type="primary" @click="resume">Resume</el-button>
    </TrainHead>
    <div class="view-body columns">
      <form v-if="plan" class="ask" data-test="study-form" @submit.prevent="start">
        <p>
          Trains on a quarter, half, three quarters and all of the {{ plan.training }} training pictures, each the same
          number of steps, and measures all on the same {{ plan.validation }} validation pictures.
        </p>
        <p v-for="each in plan.obstacles" :key="each" class="notice bad">{{ each }}</p>
        <label
          >Steps each
          <el-input-number v-model="steps" :min="20" :max="100000" :step="50" size="small" aria-label="Steps"
        /></label>
        <label>Seeds <el-input-number v-model="seeds" :min="1" :max="10" size="small" aria-label="Seeds" /></label>
        <p class="soft small">
          More seeds make it surer, and take as many times as long. Size, side and the rest are as chosen for a new run
          ({{ capital(draft.settings.size) }}, {{ draft.settings.side }} px,
          {{ draft.start === "shipped" || draft.start ? "here without starting weights" : "no starting weights" }}).
        </p>
        <WorkOn v-model="draft.onCluster" v-model:apart="draft.apart" />
        <el-button
          v-hint="'Start the study'"
          type="primary"
          native-type="submit"
          :disabled="busy || plan.obstacles.length > 0"
          data-test="start-study"
          >Start the study</el-button
        >
        <template v-if="studies.length > 1">
          <h2>Studies</h2>
          <el-button
            v-for="each in studies"
            :key="each.id"
            link
            :type="each.id === study?.id ? 'primary' : undefined"
            class="earlier"
            @click="chosenId = each.id"
            >{{ day(each.created_at) }}, {{ capital(String(each.settings.size)) }}</el-button
          >
        </template>
      </form>
      <section>
        <p v-if="failed" class="notice bad">
          {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
        </p>
        <p v-if="plan && !study" class="soft">No study yet. It says whether labelling more pictures is worth it.</p>
        <template v-if="study && job">
          <p class="line">
            <JobState :job="job" />
            <span class="soft"
              >{{ count(study.results.length, "training") }} of {{ study.planned }} done{{
                minutes ? `, ${minutes} left` : ""
              }}</span
            >
          </p>
          <p v-if="job.state === 'failed'" class="notice bad">{{ job.message }}</p>
          <p v-if="study.verdict" class="verdict" data-test="verdict">{{ study.verdict.words }}</p>
          <p v-else class="soft">A curve is fitted once three numbers of pictures are measured.</p>
          <div class="chart-place"><PlainChart :option="chart" label="Precision against training pictures" /></div>
          <table v-if="study.results.length" class="figures">
            <thead>
              <tr>
                <th class="number">Pictures</th>
                <th class="number">Seed</th>
                <th class="number">mAP at 0.5</th>
                <th class="number">at 0.50:0.95</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="each in measured" :key="`${each.pictures}-${each.seed}`" data-test="study-row">
                <td class="number">{{ each.pictures }}</td>
                <td class="number">{{ each.seed }}</td>
                <td class="number">{{ precision(each.map50) }}</td>
                <td class="number">{{ precision(each.map) }}</td>
              </tr>
            </tbody>
          </table>
        </template>
      </section>
    </div>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: 320px minmax(0, 1fr);
  gap: 36px;
  align-items: start;
}
.ask {
  display: grid;
  gap: 12px;
  justify-items: start;
}
.ask label {
  display: grid;
  grid-template-columns: 96px 130px;
  align-items: center;
  font-weight: 600;
}
.earlier {
  margin-left: 0 !important;
}
section {
  display: grid;
  gap: 10px;
}
.chart-place {
  height: 300px;
}
.verdict {
  font: 560 17px/1.4 var(--serif);
}
.line {
  display: flex;
  gap: 12px;
  align-items: center;
}
.small {
  font-size: 13px;
}
</style>
