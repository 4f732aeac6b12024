<script setup lang="ts">
/** Snapshots: frozen copies of the labels, compared with one another, taken away and brought back. */
import { computed, onMounted, ref, watch } from "vue";

import { api, type Comparison, type Snapshot, type SnapshotDetail, take } from "@/api/client";
import { count, day } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, say, sayWithUndo, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import CollectHead from "@/views/pictures/CollectHead.vue";
import FreezeDialog from "@/views/snapshots/FreezeDialog.vue";
import SnapshotArchive from "@/views/snapshots/SnapshotArchive.vue";

const store = useProject();
const snapshots = ref<Snapshot[]>([]);
const chosen = ref<number | null>(null);
const other = ref<number | null>(null);
const detail = ref<SnapshotDetail | null>(null);
const compared = ref<Comparison | null>(null);
const freezing = ref(false);
const archiving = ref(false);
const failed = ref("");
const loaded = ref(false);
const name = ref("");
const note = ref("");

const snapshot = computed(() => snapshots.value.find((each) => each.id === chosen.value) ?? null);
const earlier = computed(() => snapshots.value.filter((each) => each.id !== chosen.value));
const nothing = computed(() => {
  const found = compared.value;
  return (
    found &&
    ![found.pictures_added, found.pictures_gone, found.pictures_changed, found.other_part].some((each) => each.count)
  );
});

async function load(): Promise<void> {
  try {
    snapshots.value = (
      await take(api.GET("/api/v1/projects/{project_id}/snapshots", { params: { path: { project_id: store.id } } }))
    ).snapshots;
    chosen.value ??= snapshots.value[0]?.id ?? null;
    failed.value = "";
  } catch (error) {
    failed.value = wordsOf(error);
  }
  loaded.value = true;
}
onMounted(load);

watch(chosen, async (id) => {
  detail.value = compared.value = null;
  other.value = null;
  if (id === null) return;
  try {
    detail.value = await take(api.GET("/api/v1/snapshots/{snapshot_id}", { params: { path: { snapshot_id: id } } }));
    name.value = detail.value.snapshot.name;
    note.value = detail.value.snapshot.note;
  } catch (error) {
    failed.value = wordsOf(error);
  }
});
watch(other, async (id) => {
  compared.value = null;
  if (id === null || chosen.value === null) return;
  try {
    const path = { snapshot_id: chosen.value, other_id: id };
    const starting = take(api.POST("/api/v1/snapshots/{snapshot_id}/compared/{other_id}", { params: { path } }));
    const { outcome } = await store.outcomeOf("compare_snapshots", starting);
    if (other.value === id) compared.value = outcome;
  } catch (error) {
    complain(error);
  }
});

async function describe(): Promise<void> {
  const before = detail.value!.snapshot;
  if (name.value === before.name && note.value === before.note) return;
  const put = (body: { name: string; note: string }) =>
    take(api.PATCH("/api/v1/snapshots/{snapshot_id}", { params: { path: { snapshot_id: before.id } }, body }));
  try {
    detail.value!.snapshot = await put({ name: name.value, note: note.value });
    await load();
    sayWithUndo("Name and note kept", async () => {
      detail.value!.snapshot = await put({ name: before.name, note: before.note });
      name.value = before.name;
      note.value = before.note;
      await load();
    });
  } catch (error) {
    complain(error);
  }
}

async function frozen(id: number, fresh: boolean): Promise<void> {
  await load();
  chosen.value = id;
  say(fresh ? "Frozen" : "These very labels were frozen before; here they are");
}

function called(each: Snapshot): string {
  return each.name || each.content_hash.slice(0, 12);
}

useKeys([
  { keys: ["n"], label: "New snapshot: freeze the labels", run: () => (freezing.value = true) },
  { keys: ["ArrowDown"], label: "Next snapshot", run: () => step(1) },
  { keys: ["ArrowUp"], label: "Previous snapshot", run: () => step(-1) },
  { keys: ["e"], label: "Export the selected snapshot", run: () => (archiving.value = snapshot.value !== null) },
]);

function step(by: number): void {
  const at = snapshots.value.findIndex((each) => each.id === chosen.value);
  chosen.value = snapshots.value[at + by]?.id ?? chosen.value;
}
</script>

<template>
  <div class="view">
    <CollectHead
      ><el-button v-hint="'New snapshot: freeze the labels'" type="primary" data-test="freeze" @click="freezing = true"
        >Freeze the labels</el-button
      ></CollectHead
    >
    <p v-if="failed" class="view-body notice bad">
      {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
    </p>
    <div v-else-if="loaded && !snapshots.length" class="none">
      <h2>No snapshot yet</h2>
      <p class="soft">
        A snapshot is a copy of all labels and parts that never changes. Every run makes one; you can too.
      </p>
    </div>
    <div v-else class="two">
      <nav aria-label="Snapshots">
        <button
          v-for="each in snapshots"
          :key="each.id"
          :class="{ here: each.id === chosen }"
          data-test="snapshot"
          @click="chosen = each.id">
          <b>{{ called(each) }}</b>
          <span class="soft"
            >{{ day(each.created_at) }}, {{ count(each.boxes, "box", "boxes")
            }}<template v-if="each.runs">, {{ count(each.runs, "run") }}</template></span
          >
        </button>
      </nav>
      <div v-if="detail && snapshot" class="detail" data-test="snapshot-detail">
        <div class="line">
          <el-input v-model="name" placeholder="Name" aria-label="Name" class="name" @change="describe" />
          <el-button v-hint="'Export the selected snapshot'" data-test="archive" @click="archiving = true"
            >Export</el-button
          >
        </div>
        <el-input v-model="note" type="textarea" :rows="2" placeholder="Note" aria-label="Note" @change="describe" />
        <p class="soft">
          {{ count(snapshot.pictures, "picture") }}, {{ count(snapshot.boxes, "box", "boxes") }}, frozen
          {{ day(snapshot.created_at) }}, content {{ snapshot.content_hash.slice(0, 16) }}
        </p>
        <table class="figures">
          <thead>
            <tr>
              <th>Part</th>
              <th class="number">Pictures</th>
              <th v-for="each in detail.classes" :key="each" class="number">{{ each }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="part in detail.parts" :key="part.part ?? ''">
              <td>{{ part.part ?? "unassigned" }}</td>
              <td class="number">{{ part.pictures }}</td>
              <td v-for="each in detail.classes" :key="each" class="number" :class="{ bad: !part.boxes[each] }">
                {{ part.boxes[each] ?? 0 }}
              </td>
            </tr>
          </tbody>
        </table>
        <div v-if="earlier.length" class="compare">
          <h3>
            Compared with
            <el-select
              v-model="other"
              size="small"
              placeholder="another snapshot"
              clearable
              :value-on-clear="null"
              aria-label="Compare with"
              style="width: 220px"
              data-test="compare-with">
              <el-option v-for="each in earlier" :key="each.id" :value="each.id" :label="called(each)" />
            </el-select>
          </h3>
          <div v-if="compared" data-test="comparison">
            <p v-if="nothing" class="soft">Nothing differs in pictures, boxes and parts.</p>
            <template v-else>
              <p>
                {{ count(compared.pictures_added.count, "picture") }} added, {{ compared.pictures_gone.count }} gone,
                {{ compared.pictures_changed.count }} with other boxes, {{ compared.other_part.count }} in another part
              </p>
              <table v-if="compared.classes.length" class="figures narrow">
                <thead>
                  <tr>
                    <th>Class</th>
                    <th class="number">Added</th>
                    <th class="number">Gone</th>
                    <th class="number">Moved</th>
                    <th class="number">Relabelled</th>
                  </tr>
                </thead>
                <tbody>
                  <tr v-for="each in compared.classes" :key="each.name">
                    <td>{{ each.name }}</td>
                    <td class="number">{{ each.added }}</td>
                    <td class="number">{{ each.gone }}</td>
                    <td class="number">{{ each.moved }}</td>
                    <td class="number">{{ each.relabelled }}</td>
                  </tr>
                </tbody>
              </table>
              <p v-for="each in compared.relabelled" :key="each.before + each.after">
                {{ count(each.boxes, "box", "boxes") }}: {{ each.before }} became {{ each.after }}
              </p>
              <details
                v-for="[title, names] in [
                  ['Added', compared.pictures_added],
                  ['Gone', compared.pictures_gone],
                  ['Other boxes', compared.pictures_changed],
                  ['Another part', compared.other_part],
                ] as [string, Comparison['other_part']][]"
                v-show="names.count"
                :key="title">
                <summary>{{ title }}: {{ count(names.count, "picture") }}</summary>
                <p class="names">
                  {{ names.names.join(", ")
                  }}<template v-if="names.count > names.names.length">
                    and {{ names.count - names.names.length }} more</template
                  >
                </p>
              </details>
            </template>
          </div>
        </div>
      </div>
    </div>
    <FreezeDialog v-model="freezing" :known="snapshots" @frozen="frozen" />
    <SnapshotArchive v-if="snapshot" v-model="archiving" :snapshot="snapshot" />
  </div>
</template>

<style scoped>
.none {
  padding: 90px;
  text-align: center;
  display: grid;
  gap: 10px;
}
.two {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: 260px minmax(0, 1fr);
}
nav {
  border-right: 1px solid var(--rule);
  overflow: auto;
  padding: 10px;
}
nav button {
  display: grid;
  width: 100%;
  text-align: left;
  border: 0;
  background: none;
  padding: 7px 10px;
  cursor: pointer;
  border-left: 3px solid transparent;
  color: inherit;
}
nav button.here {
  border-left-color: var(--leg);
  background: var(--leg-pale);
}
nav b {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
nav span {
  font-size: 13px;
}
.detail {
  padding: 16px 24px;
  overflow: auto;
  display: grid;
  gap: 12px;
  align-content: start;
}
.line {
  display: flex;
  gap: 10px;
}
.name {
  max-width: 380px;
}
.narrow {
  max-width: 560px;
}
.compare {
  display: grid;
  gap: 8px;
  border-top: 1px solid var(--rule);
  padding-top: 12px;
}
.compare h3 :deep(.el-select) {
  font: 14px var(--sans);
}
.names {
  max-height: 140px;
  overflow: auto;
  font-size: 13px;
  color: var(--ink-soft);
}
summary {
  cursor: pointer;
}
</style>
