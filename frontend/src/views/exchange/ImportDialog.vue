<script setup lang="ts">
/** Labels in, in two steps: a look at what would happen, then taken over. */
import { computed, reactive, ref, watch } from "vue";

import { api, type Columns, type Format, type Job, type Outcome, sendFiles, take } from "@/api/client";
import { count, noun } from "@/parts/format";
import { complain, sayWithUndo, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import { LABEL_SUFFIXES } from "@/views/exchange/labelFiles";
import TableColumns from "@/views/exchange/TableColumns.vue";

type Read = Outcome<"read_labels">;

const shown = defineModel<boolean>({ required: true });
/** Labels that came with pictures: files, or an archive whose pictures were taken in, by its job. */
const props = defineProps<{ from: number | File[] | null }>();
const emit = defineEmits<{ changed: []; closed: [] }>();
const store = useProject();

const formats = ref<Format[]>([]);
const NEW = "new";
const LEFT_OUT = "";
const job = ref<Job | null>(null);
const read = ref<Read | null>(null);
const input = ref<HTMLInputElement>();
/** What was chosen last, by its name. */
const chosen = ref("");
const failed = ref("");
const busy = ref("");
const replace = ref(false);
const targets = reactive(new Map<string, number | string>());

const newClasses = computed(() => [...targets.values()].filter((target) => target === NEW).length);
const pictures = computed(() => (read.value?.pictures ?? 0) + (replace.value ? (read.value?.labelled_count ?? 0) : 0));

watch(shown, async (open) => {
  if (!open) {
    emit("closed");
    return;
  }
  job.value = read.value = null;
  failed.value = busy.value = chosen.value = "";
  replace.value = false;
  void listFormats();
  if (Array.isArray(props.from)) await lookAt(props.from);
  else if (props.from !== null) await again(props.from, null);
});

async function listFormats(): Promise<void> {
  try {
    if (!formats.value.length) formats.value = (await take(api.GET("/api/v1/formats"))).formats;
  } catch (error) {
    complain(error);
  }
}

async function follow(starting: Promise<{ job: Job }>, words: string): Promise<void> {
  read.value = null;
  failed.value = "";
  busy.value = words;
  try {
    const { outcome } = await store.outcomeOf("read_labels", starting, (started) => (job.value = started));
    read.value = outcome;
    targets.clear();
    for (const each of outcome.classes) targets.set(each.name, each.class_id ?? NEW);
  } catch (error) {
    failed.value = wordsOf(error);
  } finally {
    busy.value = "";
  }
}

async function look(event: Event): Promise<void> {
  const field = event.target as HTMLInputElement;
  const files = [...(field.files ?? [])];
  field.value = "";
  if (files.length) await lookAt(files);
}

async function lookAt(files: File[]): Promise<void> {
  chosen.value = files.length === 1 ? files[0]!.name : count(files.length, "file");
  const sent = sendFiles<{ job: Job }>(`/api/v1/projects/${store.id}/annotations`, files);
  await follow(sent, `Reading ${chosen.value}`);
}

async function again(jobId: number, columns: Columns | null, corners: boolean | null = null): Promise<void> {
  const params = { path: { job_id: jobId } };
  const body = { format: null, columns, corners };
  await follow(take(api.POST("/api/v1/annotations/{job_id}/again", { params, body })), "Reading");
}

async function takeOver(): Promise<void> {
  busy.value = "Taking over";
  const wanted: Record<string, number | string> = {};
  for (const [name, target] of targets) if (target !== NEW) wanted[name] = target;
  try {
    const path = { job_id: job.value!.id };
    const body = { targets: wanted, replace: replace.value };
    const starting = take(api.POST("/api/v1/annotations/{job_id}/take", { params: { path }, body }));
    const { outcome: taken } = await store.outcomeOf("take_labels", starting);
    await store.loadClasses();
    shown.value = false;
    emit("changed");
    sayWithUndo(`${count(taken.boxes, "box", "boxes")} taken over on ${count(taken.pictures, "picture")}`, async () => {
      await store.undoChange(taken.change_id);
      emit("changed");
    });
  } catch (error) {
    complain(error);
  } finally {
    busy.value = "";
  }
}
</script>

<template>
  <el-dialog v-model="shown" title="Import labels" width="680" top="6vh">
    <div class="body" data-test="import-dialog">
      <template v-if="typeof from !== 'number'">
        <p class="soft">
          One file, several, or an archive of them. Pictures are matched by name with those that are here.
        </p>
        <table v-if="!read" class="figures formats" data-test="formats">
          <tbody>
            <tr v-for="each in formats" :key="each.key">
              <td>{{ each.name }}</td>
              <td class="soft">{{ each.example }}</td>
            </tr>
          </tbody>
        </table>
        <p>
          <el-button data-test="choose-labels" @click="input?.click()">Choose files</el-button>
          <span class="soft chosen">{{ chosen }}</span>
        </p>
        <input
          ref="input"
          type="file"
          multiple
          hidden
          :accept="`${LABEL_SUFFIXES},.zip,.tar,.gz,.tgz`"
          aria-label="Annotation files"
          data-test="import-file"
          @change="look" />
      </template>
      <p v-if="busy" class="soft" role="status">{{ busy }}</p>
      <p v-if="failed" class="notice bad" data-test="import-failed">{{ failed }}</p>
      <template v-if="read">
        <p v-if="read.table && !read.columns">
          The names of the columns do not say where the boxes are. Which column holds what?
        </p>
        <p v-else-if="read.columns?.fractions === null" data-test="unit-asked">
          Some boxes look like pixels and some like fractions of their picture. Which are they?
        </p>
        <p v-else>
          Read as <b>{{ formats.find((each) => each.key === read!.format)?.name }}</b>:
          <b>{{ count(read.boxes, "box", "boxes") }}</b> for
          <b>{{ count(read.pictures, "unlabelled picture") }}</b>
        </p>
        <div v-if="read.asks" class="notice bad" data-test="import-asks">
          <p>{{ read.asks }}</p>
          <el-button size="small" data-test="read-corners" @click="again(job!.id, null, true)"
            >They are corners</el-button
          >
          <el-button size="small" data-test="read-sizes" @click="again(job!.id, null, false)"
            >They are corner and size</el-button
          >
        </div>
        <ul v-if="read.notes?.length" class="notes" data-test="import-notes">
          <li v-for="each in read.notes" :key="each">{{ each }}</li>
        </ul>
        <div v-if="read.problems_count" class="notice bad" data-test="import-problems">
          {{ count(read.problems_count, "entry", "entries") }} would be left out:
          <ul>
            <li v-for="each in read.problems" :key="each">{{ each }}</li>
          </ul>
        </div>
        <TableColumns
          v-if="read.table"
          :header="read.table.header"
          :rows="read.table.rows"
          :columns="read.columns"
          @chosen="again(job!.id, $event)" />
        <table v-if="read.classes.length" class="figures classes">
          <thead>
            <tr>
              <th>Class in the file</th>
              <th class="number">Boxes</th>
              <th>Becomes here</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in read.classes" :key="each.name">
              <td>{{ each.name }}</td>
              <td class="number">{{ each.boxes }}</td>
              <td>
                <el-select
                  :model-value="targets.get(each.name)"
                  size="small"
                  filterable
                  :aria-label="`Class for ${each.name}`"
                  @change="targets.set(each.name, $event)">
                  <el-option v-if="each.class_id === null" :value="NEW" :label="`New class ${each.name}`" />
                  <el-option v-for="own in store.classes" :key="own.id" :value="own.id" :label="own.name" />
                  <el-option :value="LEFT_OUT" label="Leave out" />
                </el-select>
              </td>
            </tr>
          </tbody>
        </table>
        <el-checkbox v-if="read.labelled_count" v-model="replace" size="small">
          {{ count(read.labelled_count, "picture has", "pictures have") }} labels already; replace them
        </el-checkbox>
        <details v-if="read.missing_count">
          <summary>
            {{ count(read.missing_count, "picture") }} of the file {{ noun(read.missing_count, "is", "are") }} not here
          </summary>
          <ul>
            <li v-for="each in read.missing" :key="each">{{ each }}</li>
          </ul>
        </details>
      </template>
    </div>
    <template #footer>
      <el-button @click="shown = false">Cancel</el-button>
      <el-button
        type="primary"
        :disabled="!pictures || Boolean(busy) || Boolean(read?.asks)"
        data-test="import-now"
        @click="takeOver">
        {{ read?.problems_count ? "Import the rest" : "Import"
        }}<template v-if="newClasses"> with {{ count(newClasses, "new class", "new classes") }}</template>
      </el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.chosen {
  margin-left: 10px;
}
.body {
  display: grid;
  gap: 12px;
  max-height: 68vh;
  overflow: auto;
}
.classes td {
  padding: 3px 12px 3px 0;
}
ul {
  max-height: 150px;
  overflow: auto;
  margin: 6px 0 0;
  padding-left: 18px;
  font-size: 13px;
}
summary {
  cursor: pointer;
}
</style>
