<script setup lang="ts">
/** All runs: what differs in front, sorted, filtered, grouped, laid over one another. */
import { computed, onBeforeUnmount, onMounted, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Epoch, type Run, type RunGroup, take } from "@/api/client";
import { capital, count, day, precision } from "@/parts/format";
import JobState from "@/parts/jobs/JobState.vue";
import LineChart from "@/parts/charts/LineChart.vue";
import { useLiveJob } from "@/parts/jobs/liveJob";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import { remembered } from "@/state/remembered";
import { settingName, settingValue } from "@/views/train/settingNames";
import TrainHead from "@/views/train/TrainHead.vue";

const store = useProject();
const router = useRouter();
const route = useRoute();
const live = useLiveJob();

const runs = ref<Run[]>([]);
const differing = ref<string[]>([]);
const loaded = ref(false);
const failed = ref("");
const binned = ref(false);
const text = ref("");
const order = ref<{ key: string; descending: boolean }>({ key: "created_at", descending: true });
const columns = remembered<{ more: string[] }>("run-columns", { more: [] });
/** Laid over one another; an address may name those to begin with. */
const chosen = ref(
  new Set(
    String(route.query.over ?? "")
      .split(",")
      .map(Number)
      .filter(Boolean),
  ),
);
const grouped = ref("");
const groups = ref<RunGroup[]>([]);
const curves = ref(new Map<number, Epoch[]>());
const measure = ref<"map50" | "map" | "loss" | "validation">("map50");

async function load(): Promise<void> {
  try {
    const found = await take(
      api.GET("/api/v1/projects/{project_id}/runs", {
        params: { path: { project_id: store.id }, query: { binned: binned.value } },
      }),
    );
    runs.value = found.runs;
    differing.value = found.differing;
    chosen.value = new Set([...chosen.value].filter((id) => found.runs.some((run) => run.id === id)));
    if (grouped.value) await group();
    failed.value = "";
  } catch (error) {
    failed.value = wordsOf(error);
  } finally {
    loaded.value = true;
  }
}

const allSettings = computed(() => Object.keys(runs.value[0]?.settings ?? {}));
const shownSettings = computed(() =>
  [...new Set([...differing.value, ...columns.value.more])].filter((key) => allSettings.value.includes(key)),
);
const rows = computed(() => {
  const wanted = text.value.trim().toLowerCase();
  const found = runs.value.filter(
    (run) =>
      !wanted ||
      `${run.name} ${run.note} ${shownSettings.value.map((key) => settingValue(key, run.settings[key])).join(" ")}`
        .toLowerCase()
        .includes(wanted),
  );
  const value = (run: Run): string | number => {
    const { key } = order.value;
    const raw = key in run ? run[key as keyof Run] : run.settings[key];
    return typeof raw === "number" ? raw : raw === null || raw === undefined ? -1 : String(raw);
  };
  const sign = order.value.descending ? -1 : 1;
  return [...found].sort((a, b) => {
    const [x, y] = [value(a), value(b)];
    return sign * (typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y)));
  });
});
function sortBy(key: string): void {
  order.value = {
    key,
    descending: order.value.key === key ? !order.value.descending : key.startsWith("best") || key === "created_at",
  };
}
const arrow = (key: string): string => (order.value.key === key ? (order.value.descending ? " ↓" : " ↑") : "");
const sorted = (key: string): "ascending" | "descending" | "none" =>
  order.value.key === key ? (order.value.descending ? "descending" : "ascending") : "none";

/** Runs that were validated on other pictures than the newest one with a result: their figures do not compare. */
const kinds = computed(() => {
  const held = [...new Set(runs.value.filter((run) => run.best_map !== null).map((run) => run.held_out))];
  return new Map(held.map((each, index) => [each, String.fromCharCode(65 + (index % 26))]));
});
const letter = (run: Run): string => (kinds.value.size > 1 ? (kinds.value.get(run.held_out) ?? "") : "");
const chosenRuns = computed(() => rows.value.filter((run) => chosen.value.has(run.id)));
const incomparable = computed(() => new Set(chosenRuns.value.map((run) => run.held_out)).size > 1);

function toggle(id: number): void {
  const now = new Set(chosen.value);
  if (!now.delete(id)) now.add(id);
  chosen.value = now;
}
watch(chosen, async (ids) => {
  for (const id of ids) {
    if (curves.value.has(id)) continue;
    try {
      const found = await take(api.GET("/api/v1/runs/{run_id}", { params: { path: { run_id: id } } }));
      curves.value = new Map(curves.value).set(id, found.epochs);
    } catch (error) {
      complain(error);
    }
  }
});

const COLOURS = ["#4A7397", "#B5492F", "#51623F", "#8A6A2F", "#6B4E86", "#15181B", "#2F7F79", "#A0617F"];
const total = (each: { box: number; objectness: number; classes: number }): number =>
  each.box + each.objectness + each.classes;
function point(each: Epoch): number | null {
  if (measure.value === "loss") return total(each);
  if (!each.validation) return null;
  return measure.value === "validation" ? total(each.validation) : each.validation[measure.value];
}
const overlaid = computed(() =>
  chosenRuns.value.map((run, index) => ({
    name: run.name,
    colour: COLOURS[index % COLOURS.length]!,
    dashed: index >= COLOURS.length,
    points: (curves.value.get(run.id) ?? []).flatMap((each): [number, number][] => {
      const value = point(each);
      return value === null ? [] : [[each.epoch, value]];
    }),
  })),
);
const measures = [
  { value: "map50", label: "mAP at 0.5" },
  { value: "map", label: "mAP at 0.50:0.95" },
  { value: "loss", label: "Training loss" },
  { value: "validation", label: "Validation loss" },
];

async function group(): Promise<void> {
  if (!grouped.value) {
    groups.value = [];
    return;
  }
  try {
    const found = await take(
      api.GET("/api/v1/projects/{project_id}/run-groups", {
        params: { path: { project_id: store.id }, query: { by: grouped.value } },
      }),
    );
    groups.value = found.groups;
  } catch (error) {
    complain(error);
  }
}
watch(grouped, group);
const spread = (mean: number, deviation: number | null): string =>
  deviation === null ? precision(mean) : `${precision(mean)} ± ${precision(deviation)}`;

async function putAway(into: boolean): Promise<void> {
  const ids = [...chosen.value];
  try {
    for (const id of ids) await setBinned(id, into);
    chosen.value = new Set();
    await Promise.all([load(), store.refresh()]);
    sayWithUndo(`${count(ids.length, "run")} ${into ? "moved to the bin" : "restored"}`, async () => {
      for (const id of ids) await setBinned(id, !into);
      await Promise.all([load(), store.refresh()]);
    });
  } catch (error) {
    complain(error);
    await load();
  }
}
async function setBinned(id: number, into: boolean): Promise<void> {
  await take(api.PUT("/api/v1/runs/{run_id}/binned", { params: { path: { run_id: id } }, body: { binned: into } }));
}

onMounted(load);
watch(binned, load);
const forgetJob = store.onJob((job) => {
  if (job.kind.startsWith("train") && job.state !== "running") void load();
});
const forgetEpoch = store.onEpoch(({ run_id }) => {
  if (!chosen.value.has(run_id)) return;
  void take(api.GET("/api/v1/runs/{run_id}", { params: { path: { run_id } } })).then((found) => {
    curves.value = new Map(curves.value).set(run_id, found.epochs);
  }, complain);
});
onBeforeUnmount(() => {
  forgetJob();
  forgetEpoch();
});
useKeys([
  { keys: ["n"], label: "New run", run: () => router.push(`/project/${store.id}/train`) },
  {
    keys: ["Ctrl+a"],
    label: "Select all or none",
    run: () => (chosen.value = chosen.value.size ? new Set() : new Set(rows.value.map((run) => run.id))),
  },
  {
    keys: ["Delete"],
    label: "Move the selected runs to the bin",
    run: () => chosen.value.size && !binned.value && putAway(true),
  },
]);
</script>

<template>
  <div class="view">
    <TrainHead>
      <el-input
        v-model="text"
        size="small"
        clearable
        placeholder="Name, note, value"
        aria-label="Filter runs"
        class="filter" />
      <el-select
        v-model="grouped"
        size="small"
        clearable
        placeholder="Group by"
        :value-on-clear="''"
        aria-label="Group by"
        class="narrow"
        data-test="group-by">
        <el-option v-for="key in allSettings" :key="key" :value="key" :label="settingName(key)" />
      </el-select>
      <el-select
        v-model="columns.more"
        size="small"
        multiple
        collapse-tags
        placeholder="More columns"
        aria-label="More columns"
        class="narrow">
        <el-option v-for="key in allSettings" :key="key" :value="key" :label="settingName(key)" />
      </el-select>
      <el-checkbox v-model="binned" size="small" data-test="bin">Bin</el-checkbox>
    </TrainHead>
    <div class="view-body body">
      <p v-if="failed" class="notice bad">
        {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
      </p>
      <p v-if="loaded && !runs.length && !failed" class="soft">
        {{
          binned
            ? "No run is in the bin."
            : "No run yet. A run freezes the labels as they are and learns from them in the background."
        }}
        <router-link v-if="!binned" :to="`/project/${store.id}/train`">New run</router-link>
      </p>
      <div v-if="runs.length" class="table">
        <table class="figures" data-test="runs">
          <thead>
            <tr>
              <th class="tick" />
              <th :aria-sort="sorted('name')">
                <button type="button" @click="sortBy('name')">Name{{ arrow("name") }}</button>
              </th>
              <th>State</th>
              <th v-for="key in shownSettings" :key="key" :aria-sort="sorted(key)">
                <button type="button" @click="sortBy(key)">{{ settingName(key) }}{{ arrow(key) }}</button>
              </th>
              <th class="number" :aria-sort="sorted('best_map50')">
                <button type="button" @click="sortBy('best_map50')">mAP 0.5{{ arrow("best_map50") }}</button>
              </th>
              <th class="number" :aria-sort="sorted('best_map')">
                <button type="button" @click="sortBy('best_map')">0.50:0.95{{ arrow("best_map") }}</button>
              </th>
              <th class="number" :aria-sort="sorted('best_epoch')">
                <button type="button" @click="sortBy('best_epoch')">Best epoch{{ arrow("best_epoch") }}</button>
              </th>
              <th :aria-sort="sorted('created_at')">
                <button type="button" @click="sortBy('created_at')">Started{{ arrow("created_at") }}</button>
              </th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="run in rows" :key="run.id" :class="{ chosen: chosen.has(run.id) }" data-test="run-row">
              <td class="tick">
                <el-checkbox
                  :model-value="chosen.has(run.id)"
                  size="small"
                  :aria-label="`Select ${run.name}`"
                  @change="toggle(run.id)" />
              </td>
              <td class="name">
                <router-link :to="`/project/${store.id}/train/${run.id}`">{{ run.name }}</router-link>
                <div v-if="run.note" class="soft note">{{ run.note }}</div>
              </td>
              <td><JobState :job="live(run.job)" /></td>
              <td v-for="key in shownSettings" :key="key">{{ settingValue(key, run.settings[key]) }}</td>
              <td class="number">
                {{ precision(run.best_map50)
                }}<sup v-if="letter(run)" :title="`Measured on validation pictures ${letter(run)}`">{{
                  letter(run)
                }}</sup>
              </td>
              <td class="number">{{ precision(run.best_map) }}</td>
              <td class="number">{{ run.best_epoch ?? "–" }}</td>
              <td class="soft">{{ day(run.created_at) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <p v-if="kinds.size > 1" class="notice" data-test="incomparable">
        These runs were measured on {{ kinds.size }} different sets of validation pictures or truths ({{
          [...kinds.values()].join(", ")
        }}); figures with different letters cannot be compared.
      </p>
      <section v-if="groups.length" data-test="groups">
        <h2>By {{ settingName(grouped).toLowerCase() }}</h2>
        <table class="figures">
          <thead>
            <tr>
              <th>{{ settingName(grouped) }}</th>
              <th class="number">Runs</th>
              <th class="number">mAP at 0.5</th>
              <th class="number">at 0.50:0.95</th>
              <th />
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in groups" :key="each.value">
              <td>{{ settingValue(grouped, each.value) }}</td>
              <td class="number">{{ each.runs.length }}</td>
              <td class="number">{{ spread(each.mean_map50, each.spread_map50) }}</td>
              <td class="number">{{ spread(each.mean_map, each.spread_map) }}</td>
              <td class="soft">{{ each.comparable ? "" : "measured on different pictures" }}</td>
            </tr>
          </tbody>
        </table>
        <p class="soft small">Mean ± standard deviation of the runs.</p>
      </section>
      <section v-if="chosen.size" class="overlay" data-test="overlay">
        <header>
          <h2>{{ count(chosen.size, "run") }} over one another</h2>
          <el-select v-model="measure" size="small" class="narrow" aria-label="Curve"
            ><el-option v-for="each in measures" :key="each.value" v-bind="each"
          /></el-select>
          <span class="spread" />
          <el-button
            v-if="!binned"
            v-hint="'Move the selected runs to the bin'"
            size="small"
            data-test="bin-runs"
            @click="putAway(true)"
            >Move to bin</el-button
          >
          <el-button v-else size="small" data-test="unbin-runs" @click="putAway(false)">Restore</el-button>
        </header>
        <p v-if="incomparable" class="notice bad">
          They were measured on different validation pictures; these curves cannot be compared.
        </p>
        <div class="chart-place">
          <LineChart
            :curves="overlaid"
            x-name="Epoch"
            :top="measure.startsWith('map') ? 1 : undefined"
            :label="`${capital(measure)} of the selected runs over epochs`" />
        </div>
      </section>
      <p v-else-if="rows.length > 1" class="soft small">Select runs to lay their curves over one another.</p>
    </div>
  </div>
</template>

<style scoped>
.body {
  display: grid;
  gap: 16px;
  align-content: start;
  grid-auto-rows: max-content;
}
.table {
  overflow-x: auto;
}
.filter {
  width: 150px;
}
.narrow {
  width: 160px;
}
th button {
  border: 0;
  background: none;
  padding: 0;
  font: inherit;
  color: inherit;
  cursor: pointer;
  white-space: nowrap;
}
td {
  white-space: nowrap;
}
td.name {
  max-width: 230px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.note {
  font-size: 13px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.tick {
  width: 26px;
}
tr.chosen td {
  background: var(--leg-pale);
}
sup {
  margin-left: 3px;
  font-weight: 700;
}
.overlay header {
  display: flex;
  gap: 12px;
  align-items: center;
}
.spread {
  flex: 1;
}
.chart-place {
  height: 260px;
  margin-top: 8px;
}
.small {
  font-size: 13px;
}
</style>
