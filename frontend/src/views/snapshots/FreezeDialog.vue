<script setup lang="ts">
/** Freeze the labels: which pictures, and what becomes of each class. */
import { computed, reactive, ref, watch } from "vue";

import { api, type ClipRow, type Part, type Snapshot, take } from "@/api/client";
import ClassBadge from "@/parts/classes/ClassBadge.vue";
import { capital, count } from "@/parts/format";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import { thinnedTo } from "@/views/clips/choice";

const shown = defineModel<boolean>({ required: true });
const props = defineProps<{ known: Snapshot[] }>();
const emit = defineEmits<{ frozen: [snapshotId: number, fresh: boolean] }>();
const store = useProject();

const SELF = 0;
const LEFT_OUT = -1;
const form = reactive({ name: "", note: "", part: "" as Part | "", tag: "" });
const targets = reactive(new Map<number, number>());
const names = reactive(new Map<number, string>());
const tags = ref<string[]>([]);
const clips = ref<ClipRow[]>([]);
const chosenClips = ref<number[]>([]);
const busy = ref(false);
const parts = ["training", "validation", "test"] as const;
const merged = computed(() => [...targets.values()].filter((target) => target > 0).length);

watch(shown, async (open) => {
  if (!open) return;
  Object.assign(form, { name: "", note: "", part: "", tag: "" });
  targets.clear();
  names.clear();
  try {
    const params = { path: { project_id: store.id } };
    const all = (await take(api.GET("/api/v1/projects/{project_id}/clips", { params }))).clips;
    clips.value = all.filter((each) =>
      each.labelled_as === "objects" ? each.objects : each.labelled_as && each.pictures,
    );
    // Objects are a snapshot's only where somebody says that all of them are labelled.
    chosenClips.value = clips.value.filter((each) => each.labelled_as === "pictures").map((each) => each.id);
    tags.value = (await take(api.GET("/api/v1/projects/{project_id}/choices", { params }))).tags;
  } catch (error) {
    complain(error);
  }
});

async function freeze(): Promise<void> {
  busy.value = true;
  const classMap: Record<number, number | null> = {};
  for (const [id, target] of targets) if (target !== SELF) classMap[id] = target === LEFT_OUT ? null : target;
  const newNames: Record<number, string> = {};
  for (const [id, name] of names) if (name.trim() && (targets.get(id) ?? SELF) === SELF) newNames[id] = name.trim();
  try {
    const starting = take(
      api.POST("/api/v1/projects/{project_id}/snapshots", {
        params: { path: { project_id: store.id } },
        body: {
          name: form.name,
          note: form.note,
          filter: {
            part: form.part || null,
            tag: form.tag || null,
            state: null,
            class_id: null,
            name: null,
            source: null,
            attribute: null,
          },
          class_map: classMap,
          new_names: newNames,
          clips: chosenClips.value,
        },
      }),
    );
    const { snapshot_id: id } = (await store.outcomeOf("freeze", starting)).outcome;
    shown.value = false;
    emit("frozen", id, !props.known.some((each) => each.id === id));
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <el-dialog v-model="shown" title="Freeze the labels" width="640" top="6vh">
    <form novalidate class="body" data-test="freeze-form" @submit.prevent="freeze">
      <p class="soft">
        A copy of the labels and parts as they are now. It never changes, and a run can be trained on it.
        <template v-if="store.project?.stages.in_progress">
          {{ count(store.project.stages.in_progress, "picture") }} in progress will be left out.
        </template>
      </p>
      <div class="line">
        <el-input v-model="form.name" placeholder="Name" aria-label="Name" data-test="snapshot-name" />
        <el-input v-model="form.note" placeholder="Note" aria-label="Note" />
      </div>
      <div class="line">
        <el-select v-model="form.part" clearable placeholder="All parts" aria-label="Part"
          ><el-option v-for="each in parts" :key="each" :value="each" :label="capital(each)"
        /></el-select>
        <el-select v-model="form.tag" clearable placeholder="Any tag" aria-label="Tag" :disabled="!tags.length"
          ><el-option v-for="each in tags" :key="each" :value="each" :label="each"
        /></el-select>
      </div>
      <fieldset v-if="clips.length" data-test="freeze-clips">
        <legend>Clips, thinned out</legend>
        <el-checkbox-group v-model="chosenClips">
          <el-checkbox v-for="each in clips" :key="each.id" :value="each.id" data-test="freeze-clip">
            {{ each.name }}
            <span class="soft">{{
              each.labelled_as === "objects"
                ? `${each.objects === 1 ? "its object is" : `all ${each.objects} objects are`} labelled; take ${thinnedTo(each)}`
                : `only ${thinnedTo(each)}`
            }}</span>
          </el-checkbox>
        </el-checkbox-group>
      </fieldset>
      <div class="scroll">
        <table class="figures">
          <thead>
            <tr>
              <th>Class</th>
              <th class="number">Boxes</th>
              <th>In the snapshot</th>
              <th>Called</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in store.classes" :key="each.id">
              <td><ClassBadge :number="each.position" :colour="each.colour" :name="each.name" /></td>
              <td class="number">{{ each.boxes }}</td>
              <td>
                <el-select
                  :model-value="targets.get(each.id) ?? SELF"
                  size="small"
                  :aria-label="`${each.name} becomes`"
                  :data-test="`becomes-${each.name}`"
                  @change="targets.set(each.id, $event)">
                  <el-option :value="SELF" label="Stays" />
                  <el-option
                    v-for="other in store.classes.filter((one) => one.id !== each.id)"
                    :key="other.id"
                    :value="other.id"
                    :label="`Merged into ${other.name}`" />
                  <el-option :value="LEFT_OUT" label="Left out" />
                </el-select>
              </td>
              <td>
                <el-input
                  :model-value="names.get(each.id) ?? each.name"
                  size="small"
                  :disabled="(targets.get(each.id) ?? SELF) !== SELF"
                  :aria-label="`${each.name} is called`"
                  @input="names.set(each.id, $event)" />
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <p class="foot">
        <span class="soft"
          ><template v-if="merged">{{ count(merged, "class", "classes") }} merged</template></span
        >
        <el-button type="primary" native-type="submit" :loading="busy" data-test="freeze-now">Freeze</el-button>
      </p>
    </form>
  </el-dialog>
</template>

<style scoped>
.body {
  display: grid;
  gap: 12px;
}
.line {
  display: flex;
  gap: 10px;
  align-items: center;
}
fieldset {
  border: 0;
  padding: 0;
  margin: 0;
  max-height: 110px;
  overflow: auto;
}
legend {
  padding: 0;
  font-weight: 600;
}
fieldset :deep(.el-checkbox) {
  display: flex;
  margin: 0;
}
.scroll {
  max-height: 300px;
  overflow: auto;
}
td {
  padding: 3px 12px 3px 0;
}
.foot {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
</style>
