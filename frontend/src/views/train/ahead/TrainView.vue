<script setup lang="ts">
/** A new run: what it learns from, what matters in front, the rest folded away, and looks ahead beside it. */
import { computed, onBeforeUnmount, onMounted, ref, watch } from "vue";
import { useRouter } from "vue-router";

import { api, type Plan, type Run, type Snapshot, take } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import { capital, count } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import SplitDialog from "@/views/pictures/SplitDialog.vue";
import AnchorPanel from "@/views/train/ahead/AnchorPanel.vue";
import AugmentPanel from "@/views/train/ahead/AugmentPanel.vue";
import EstimatePanel from "@/views/train/ahead/EstimatePanel.vue";
import MoreSettings from "@/views/train/ahead/MoreSettings.vue";
import { resetDraft, useDraft } from "@/views/train/ahead/runSettings";
import SettingField from "@/views/train/ahead/SettingField.vue";
import { sideTrial } from "@/views/train/ahead/sideAdvice";
import SizePanel from "@/views/train/ahead/SizePanel.vue";
import WorkOn from "@/views/models/WorkOn.vue";
import TrainHead from "@/views/train/TrainHead.vue";
import WatchChoice from "@/views/train/ahead/WatchChoice.vue";

const store = useProject();
const router = useRouter();
const draft = useDraft();

const plan = ref<Plan | null>(null);
const runs = ref<Run[]>([]);
const snapshots = ref<Snapshot[]>([]);
const named = computed(() => snapshots.value.filter((each) => each.name));
const failed = ref("");
const busy = ref(false);
const splitting = ref(false);
const look = ref("sizes");
const looks = ["sizes", "anchors", "augmented", "watch", "estimate"] as const;

const settings = computed(() => draft.settings);
const epochs = computed(() => {
  const passes = settings.value.passes ?? plan.value?.passes ?? 1;
  return (
    settings.value.epochs ?? Math.max(1, Math.round(((plan.value?.epochs ?? 1) * (plan.value?.passes ?? 1)) / passes))
  );
});
const steps = computed(() => {
  const shown = (plan.value?.training ?? 0) * (settings.value.passes ?? plan.value?.passes ?? 1);
  return epochs.value * Math.ceil(shown / settings.value.batch);
});
const advice = computed(() => plan.value?.sides.find((each) => each.side === settings.value.side));

/** Runs whose weights can be started from: those of the same size with a model. */
const usable = computed(() => runs.value.filter((run) => run.has_model && run.settings.size === settings.value.size));
const starting = computed(() => {
  if (draft.start === null) return "All weights begin at random.";
  if (draft.start === "shipped") return "Pre-trained on drawn shapes: knows edges and outlines, not your classes.";
  const run = runs.value.find((each) => each.id === draft.start);
  if (!run) return "";
  const theirs = (run.facts.classes as string[] | undefined) ?? [];
  const mine = plan.value ? Object.keys(plan.value.boxes_by_class) : [];
  const fresh = mine.filter((name) => !theirs.includes(name));
  const said = `Backbone, neck and where boxes are come from ${run.name}; ${mine.length - fresh.length} of ${mine.length} classes are known`;
  return fresh.length ? `${said}, new: ${fresh.join(", ")}.` : `${said}.`;
});
watch(
  () => settings.value.size,
  () => {
    if (typeof draft.start === "number" && !usable.value.some((run) => run.id === draft.start)) draft.start = "shipped";
  },
);

let asked = 0;
async function load(): Promise<void> {
  const mine = ++asked;
  try {
    const path = { project_id: store.id };
    const query = {
      side: settings.value.side ?? undefined,
      batch: settings.value.batch,
      snapshot_id: draft.snapshotId ?? undefined,
    };
    const [planned, listed, frozen] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/plan", { params: { path, query } })),
      take(api.GET("/api/v1/projects/{project_id}/runs", { params: { path } })),
      take(api.GET("/api/v1/projects/{project_id}/snapshots", { params: { path } })),
    ]);
    if (mine !== asked) return;
    snapshots.value = frozen.snapshots;
    plan.value = planned;
    // Until somebody chooses, the side is the one that the boxes advise.
    settings.value.side ??= planned.side;
    runs.value = listed.runs;
    failed.value = "";
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

/** A third of a run tells which of two sides is better, if not how good it gets. */
const trialEpochs = computed(() => Math.max(3, Math.round(epochs.value / 3)));

/** One run with the settings of the form, but for some; its number. */
async function startOne(name: string, changed: Partial<typeof settings.value>): Promise<number> {
  const starting = take(
    api.POST("/api/v1/projects/{project_id}/runs", {
      params: { path: { project_id: store.id } },
      body: {
        name,
        snapshot_id: draft.snapshotId,
        settings: { ...settings.value, ...changed },
        start: draft.start,
        watched: draft.watched,
        on_cluster: draft.onCluster,
        apart: draft.apart,
      },
    }),
  );
  return (await store.outcomeOf("start_run", starting)).outcome.run_id;
}

async function start(): Promise<void> {
  await startAll(
    Array.from({ length: draft.runs }, (_, number) => ({
      name: draft.name && draft.runs > 1 ? `${draft.name} ${number + 1}` : draft.name,
      changed: { seed: (settings.value.seed ?? 0) + number },
    })),
    (started) => {
      // The next run is another; a comparison of sides leaves what was typed for it.
      [draft.name, draft.runs] = ["", 1];
      return started.length > 1 ? "runs" : String(started[0]);
    },
  );
}

/** Two short runs at two sides, laid over one another in Runs. */
async function trySides(): Promise<void> {
  const sides = plan.value && sideTrial(plan.value, settings.value.side ?? plan.value.side);
  if (!sides) return;
  await startAll(
    sides.map((side) => ({ name: `Side ${side}`, changed: { side, epochs: trialEpochs.value } })),
    (started) => `runs?over=${started.join(",")}`,
  );
}

async function startAll(
  wanted: { name: string; changed: Partial<typeof settings.value> }[],
  shownAt: (started: number[]) => string,
): Promise<void> {
  if (!plan.value || plan.value.obstacles.length || busy.value) return;
  busy.value = true;
  try {
    const started: number[] = [];
    for (const each of wanted) started.push(await startOne(each.name, each.changed));
    await store.refresh();
    await router.push(`/project/${store.id}/train/${shownAt(started)}`);
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}

function reset(): void {
  const before = JSON.parse(JSON.stringify(draft)) as typeof draft;
  resetDraft(draft);
  sayWithUndo("All settings reset", async () => {
    Object.assign(draft, before);
  });
}

onMounted(load);
watch(() => [settings.value.side, settings.value.batch, draft.snapshotId], load);
const forget = store.onJob((job) => {
  if (job.kind.startsWith("train") && job.state !== "running") void load();
});
onBeforeUnmount(forget);
useKeys([
  { keys: ["Ctrl+Enter"], label: "Start training", run: start },
  { keys: ["c"], label: "Compare both sides", run: trySides },
  ...looks.map((name, index) => ({
    keys: [String(index + 1)],
    label: `Look at: ${name}`,
    run: () => (look.value = name),
  })),
]);
</script>

<template>
  <div class="view">
    <TrainHead />
    <div class="columns">
      <p v-if="failed" class="notice bad">
        {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
      </p>
      <form v-if="plan" novalidate class="plan" data-test="plan" @submit.prevent="start">
        <p>
          Learns from <b>{{ count(plan.training, "picture") }}</b>, validated on <b>{{ plan.validation }}</b>.
          <template v-if="plan.unassigned">
            {{ count(plan.unassigned, "labelled picture is", "labelled pictures are") }} unassigned and left
            out<template v-if="!plan.obstacles.length"
              >; <el-button link type="primary" @click="splitting = true">split the pictures</el-button> to use
              them</template
            >.
          </template>
        </p>
        <div v-if="plan.obstacles.length" class="notice bad" data-test="obstacles">
          <p v-for="each in plan.obstacles" :key="each">{{ each }}</p>
          <el-button v-if="plan.training + plan.validation + plan.unassigned" size="small" @click="splitting = true"
            >Split the pictures</el-button
          >
        </div>
        <div v-else-if="plan.warnings.length" class="notice" data-test="warnings">
          <p v-for="each in plan.warnings" :key="each">{{ each }}</p>
        </div>
        <div class="fields">
          <label v-if="named.length"
            >Labels
            <el-select
              v-model="draft.snapshotId"
              size="small"
              clearable
              placeholder="As they are now"
              :value-on-clear="null"
              aria-label="Labels to learn from">
              <el-option v-for="each in named" :key="each.id" :value="each.id" :label="`Snapshot ${each.name}`" />
            </el-select>
          </label>
          <span v-if="named.length" />
          <label
            >Size
            <el-select v-model="settings.size" size="small" aria-label="Size">
              <el-option
                v-for="(parameters, name) in plan.parameters"
                :key="name"
                :value="name"
                :label="capital(String(name))">
                {{ capital(String(name)) }}
                <span class="soft">{{ (parameters / 1e6).toFixed(1) }} million parameters</span>
              </el-option>
            </el-select>
          </label>
          <span
            >{{ ((plan.parameters[settings.size] ?? 0) / 1e6).toFixed(1) }} million parameters; larger is slower and
            finds more</span
          >
          <SettingField v-model="draft.settings" name="side">
            pixels;
            <template v-if="advice && plan.sized"
              >{{ (advice.small * 100).toFixed(advice.small > 0 && advice.small < 0.01 ? 1 : 0) }} % of boxes under
              {{ CONSTANTS.resolved }} px here</template
            >
          </SettingField>
          <SettingField v-model="draft.settings" name="epochs" :open="epochs">
            <template v-if="plan.training">{{ steps.toLocaleString("en") }} steps;</template> each epoch
            {{
              (settings.passes ?? plan.passes) > 1
                ? `goes ${settings.passes ?? plan.passes} times through the pictures`
                : "goes once through the pictures"
            }}
          </SettingField>
          <SettingField v-model="draft.settings" name="batch" />
          <SettingField v-model="draft.settings" name="learning_rate" />
          <label
            >Start from
            <el-select
              :model-value="draft.start ?? 'nothing'"
              size="small"
              aria-label="Start from"
              data-test="start-from"
              @update:model-value="draft.start = $event === 'nothing' ? null : $event">
              <el-option value="shipped" label="Shipped weights" />
              <el-option value="nothing" label="Random weights" />
              <el-option v-for="run in usable" :key="run.id" :value="run.id" :label="run.name" />
            </el-select>
          </label>
          <span data-test="starting">{{ starting }}</span>
          <SettingField v-if="draft.start !== null" v-model="draft.settings" name="freeze_backbone">
            trains {{ Math.round(100 * (plan.trained_if_frozen[settings.size] ?? 1)) }} % of the weights: quicker, for
            few pictures
          </SettingField>
          <label
            >Name
            <el-input
              v-model="draft.name"
              size="small"
              placeholder="By size and number"
              aria-label="Run name"
              maxlength="200"
          /></label>
          <span />
          <label
            >Runs
            <el-input-number v-model="draft.runs" :min="1" :max="20" size="small" aria-label="Runs" data-test="runs"
          /></label>
          <span class="soft">each with the next seed: shows how much is chance</span>
        </div>
        <details>
          <summary>More settings</summary>
          <MoreSettings v-model="draft.settings" :plan="plan" />
        </details>
        <WorkOn v-model="draft.onCluster" v-model:apart="draft.apart" single />
        <div class="go">
          <el-button
            v-hint="'Start training'"
            type="primary"
            native-type="submit"
            size="large"
            :disabled="plan.obstacles.length > 0 || busy"
            data-test="start-run"
            >Start training</el-button
          >
          <el-button link type="primary" @click="reset">Reset</el-button>
        </div>
      </form>
      <section v-if="plan" class="ahead">
        <el-tabs v-model="look" data-test="looks">
          <el-tab-pane label="Sizes and side" name="sizes" lazy
            ><SizePanel :plan="plan" :draft="draft" :trial-epochs="trialEpochs" :busy="busy" @try-both="trySides"
          /></el-tab-pane>
          <el-tab-pane label="Anchors" name="anchors" lazy
            ><AnchorPanel v-if="!plan.obstacles.length" :draft="draft"
          /></el-tab-pane>
          <el-tab-pane label="Augmentation" name="augmented" lazy
            ><AugmentPanel :plan="plan" :draft="draft"
          /></el-tab-pane>
          <el-tab-pane label="Watch pictures" name="watch" lazy><WatchChoice :draft="draft" /></el-tab-pane>
          <el-tab-pane label="Time and memory" name="estimate" lazy
            ><EstimatePanel v-if="!plan.obstacles.length" :draft="draft"
          /></el-tab-pane>
        </el-tabs>
      </section>
    </div>
    <SplitDialog v-model="splitting" @changed="load" />
  </div>
</template>

<style scoped>
.columns {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: 456px minmax(0, 1fr);
}
.plan {
  display: grid;
  gap: 12px;
  align-content: start;
  padding: 16px 20px 24px 24px;
  overflow: auto;
  border-right: 1px solid var(--rule);
}
.ahead {
  min-width: 0;
  min-height: 0;
  overflow: auto;
  padding: 6px 24px 20px;
}
.fields {
  display: grid;
  grid-template-columns: auto minmax(0, 1fr);
  gap: 7px 12px;
  align-items: center;
}
.ahead :deep(.el-tabs__item) {
  padding: 0 13px;
}
.fields > label {
  display: grid;
  grid-template-columns: 120px 122px;
  align-items: center;
  font-weight: 600;
}
.fields > span {
  font-size: 13px;
  color: var(--ink-soft);
  line-height: 1.25;
}
summary {
  cursor: pointer;
  color: var(--leg-deep);
}
.go {
  display: flex;
  gap: 16px;
  align-items: center;
}
.notice p + p {
  margin-top: 4px;
}
</style>
