<script setup lang="ts">
/** Classes and attributes: named, coloured, ordered, merged, retired; every change can be taken back. */
import { computed, reactive, ref } from "vue";

import { api, type ObjectClass, take } from "@/api/client";
import ClassBadge from "@/parts/classes/ClassBadge.vue";
import { count, noun } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import AttributeTable from "@/views/labels/AttributeTable.vue";
import CollectHead from "@/views/pictures/CollectHead.vue";

type ClassReply = Promise<{ classes: ObjectClass[]; change_id?: number | null }>;

const store = useProject();
const retired = computed(() => store.allClasses.filter((each) => each.retired));
const pasting = ref(false);
const pasted = ref("");
const merging = ref<ObjectClass | null>(null);
const target = ref<number | null>(null);
const retiring = ref<ObjectClass | null>(null);
const drafts = reactive(new Map<number, string>());
const field = ref<{ focus: () => void }>();
const added = ref("");
const chosen = ref(-1);
const project = () => ({ path: { project_id: store.id } });

/** Send a change of classes, show what they are now, and offer the way back. */
async function send(reply: ClassReply, message: string): Promise<void> {
  try {
    const found = await reply;
    store.allClasses = found.classes;
    void store.refresh();
    store.sayChange(message, found.change_id);
  } catch (error) {
    complain(error);
  }
}

const ofClass = (each: ObjectClass) => ({ path: { project_id: store.id, class_id: each.id } });

async function add(): Promise<void> {
  const name = added.value.trim();
  if (!name) return;
  added.value = "";
  await send(
    take(api.POST("/api/v1/projects/{project_id}/classes", { params: project(), body: { name } })),
    `Class ${name} added`,
  );
}

async function rename(each: ObjectClass): Promise<void> {
  const name = drafts.get(each.id)?.trim();
  drafts.delete(each.id);
  if (!name || name === each.name) return;
  const reply = take(
    api.PATCH("/api/v1/projects/{project_id}/classes/{class_id}", {
      params: ofClass(each),
      body: { name, colour: null },
    }),
  );
  await send(reply, `${each.name} renamed to ${name} on ${count(each.boxes, "box", "boxes")}`);
}

async function recolour(each: ObjectClass, event: Event): Promise<void> {
  const colour = (event.target as HTMLInputElement).value;
  const reply = take(
    api.PATCH("/api/v1/projects/{project_id}/classes/{class_id}", {
      params: ofClass(each),
      body: { colour, name: null },
    }),
  );
  await send(reply, `${each.name} has another colour`);
}

async function shift(index: number, step: number): Promise<void> {
  const ids = store.classes.map((each) => each.id);
  const other = index + step;
  if (other < 0 || other >= ids.length || !ids[index]) return;
  [ids[index], ids[other]] = [ids[other]!, ids[index]!];
  chosen.value = other;
  await send(
    take(api.PUT("/api/v1/projects/{project_id}/classes/order", { params: project(), body: { ids } })),
    "Classes reordered",
  );
}

async function merge(): Promise<void> {
  const [from, into] = [merging.value!, store.classById.get(target.value!)!];
  merging.value = null;
  const params = ofClass(from);
  const body = { into_id: into.id };
  try {
    const made = await store.madeBy(
      "merge_class",
      take(api.POST("/api/v1/projects/{project_id}/classes/{class_id}/merge", { params, body })),
    );
    await Promise.all([store.loadClasses(), store.refresh()]);
    const words = `${count(made.changed, "box", "boxes")} of ${from.name} turned into ${into.name}`;
    store.sayChange(words, made.change_id);
  } catch (error) {
    complain(error);
  }
}

async function retire(): Promise<void> {
  const each = retiring.value!;
  retiring.value = null;
  await send(
    take(api.DELETE("/api/v1/projects/{project_id}/classes/{class_id}", { params: ofClass(each) })),
    `${each.name} retired`,
  );
}

async function bringBack(each: ObjectClass): Promise<void> {
  const reply = take(
    api.POST("/api/v1/projects/{project_id}/classes", { params: project(), body: { name: each.name } }),
  );
  await send(reply, `${each.name} restored`);
}

async function paste(): Promise<void> {
  const text = pasted.value;
  pasting.value = false;
  pasted.value = "";
  await send(
    take(api.POST("/api/v1/projects/{project_id}/classes/pasted", { params: project(), body: { text } })),
    "Classes added",
  );
}

useKeys([
  { keys: ["a"], label: "Add a class", run: () => field.value?.focus() },
  { keys: ["Shift+a"], label: "Add a list of classes", run: () => (pasting.value = true) },
  {
    keys: ["ArrowDown"],
    label: "Next class",
    run: () => (chosen.value = Math.min(chosen.value + 1, store.classes.length - 1)),
  },
  { keys: ["ArrowUp"], label: "Previous class", run: () => (chosen.value = Math.max(chosen.value - 1, 0)) },
  { keys: ["Shift+ArrowDown"], label: "Move the selected class down", run: () => shift(chosen.value, 1) },
  { keys: ["Shift+ArrowUp"], label: "Move the selected class up", run: () => shift(chosen.value, -1) },
  { keys: ["Shift+m"], label: "Merge the selected class", run: () => startMerge(store.classes[chosen.value]) },
  {
    keys: ["Delete"],
    label: "Retire the selected class",
    run: () => (retiring.value = store.classes[chosen.value] ?? null),
  },
]);

function startMerge(each: ObjectClass | undefined): void {
  if (!each) return;
  merging.value = each;
  target.value = store.classes.find((other) => other.id !== each.id)?.id ?? null;
}
</script>

<template>
  <div class="view">
    <CollectHead>
      <el-button v-hint="'Add a list of classes'" data-test="paste-classes" @click="pasting = true"
        >Paste a list</el-button
      >
    </CollectHead>
    <div class="view-body">
      <div class="two">
        <section data-test="classes">
          <h2>Classes</h2>
          <table class="figures">
            <thead>
              <tr>
                <th>Key</th>
                <th>Name</th>
                <th class="number">Boxes</th>
                <th>Colour</th>
                <th />
              </tr>
            </thead>
            <tbody>
              <tr
                v-for="(each, index) in store.classes"
                :key="each.id"
                :class="{ here: index === chosen }"
                data-test="class-row"
                @click="chosen = index">
                <td><ClassBadge :number="each.position" :colour="each.colour" /></td>
                <td>
                  <el-input
                    :model-value="drafts.get(each.id) ?? each.name"
                    size="small"
                    :aria-label="`Name of ${each.name}`"
                    @input="drafts.set(each.id, $event)"
                    @change="rename(each)" />
                </td>
                <td class="number">
                  <router-link :to="{ path: `/project/${store.id}/collect/audit`, query: { class: each.id } }">{{
                    each.boxes
                  }}</router-link>
                </td>
                <td>
                  <input
                    type="color"
                    :value="each.colour"
                    :aria-label="`Colour of ${each.name}`"
                    @change="recolour(each, $event)" />
                </td>
                <td class="actions">
                  <el-button
                    size="small"
                    :disabled="index === 0"
                    :aria-label="`Move ${each.name} up`"
                    @click.stop="shift(index, -1)"
                    >↑</el-button
                  >
                  <el-button
                    size="small"
                    :disabled="index === store.classes.length - 1"
                    :aria-label="`Move ${each.name} down`"
                    @click.stop="shift(index, 1)"
                    >↓</el-button
                  >
                  <el-button
                    size="small"
                    :disabled="store.classes.length < 2"
                    data-test="merge"
                    @click="startMerge(each)"
                    >Merge</el-button
                  >
                  <el-button size="small" data-test="retire" @click="retiring = each">Retire</el-button>
                </td>
              </tr>
            </tbody>
          </table>
          <p v-if="!store.classes.length" class="soft">
            No class yet. A class is a kind of thing that boxes are drawn around.
          </p>
          <form novalidate class="add" @submit.prevent="add">
            <el-input
              ref="field"
              v-model="added"
              size="small"
              placeholder="New class"
              aria-label="New class"
              data-test="add-class" />
            <el-button size="small" native-type="submit" :disabled="!added.trim()">Add</el-button>
          </form>
          <template v-if="retired.length">
            <h3>Retired</h3>
            <p class="soft">Not offered any more; their boxes stay, but snapshots leave them out.</p>
            <p v-for="each in retired" :key="each.id" class="retired">
              {{ each.name }} <span class="soft">{{ count(each.boxes, "box", "boxes") }}</span>
              <el-button size="small" link type="primary" @click="bringBack(each)">Restore</el-button>
            </p>
          </template>
        </section>
        <AttributeTable />
      </div>
    </div>
    <el-dialog v-model="pasting" title="Paste a list of classes" width="440">
      <p class="soft">One name a line. Names that are there already are passed over.</p>
      <el-input
        v-model="pasted"
        type="textarea"
        :rows="9"
        aria-label="Names"
        data-test="pasted"
        placeholder="roll&#10;croissant" />
      <template #footer
        ><el-button type="primary" :disabled="!pasted.trim()" data-test="paste-now" @click="paste"
          >Add them</el-button
        ></template
      >
    </el-dialog>
    <el-dialog :model-value="merging !== null" :title="`Merge ${merging?.name}`" width="440" @close="merging = null">
      <p>
        {{ count(merging?.boxes ?? 0, "box", "boxes") }} of {{ merging?.name }}
        {{ noun(merging?.boxes ?? 0, "gets", "get") }} the class
        <el-select v-model="target" size="small" style="width: 160px" aria-label="Merge into">
          <el-option
            v-for="each in store.classes.filter((other) => other.id !== merging?.id)"
            :key="each.id"
            :value="each.id"
            :label="each.name" />
        </el-select>
        and {{ merging?.name }} is retired.
      </p>
      <template #footer>
        <el-button @click="merging = null">Cancel</el-button>
        <el-button type="primary" :disabled="!target" data-test="merge-now" @click="merge">Merge</el-button>
      </template>
    </el-dialog>
    <el-dialog
      :model-value="retiring !== null"
      :title="`Retire ${retiring?.name}`"
      width="440"
      @close="retiring = null">
      <p>
        {{ retiring?.name }} is not offered any more. Its {{ count(retiring?.boxes ?? 0, "box", "boxes") }} stay, but
        snapshots leave them out.
      </p>
      <template #footer>
        <el-button @click="retiring = null">Cancel</el-button>
        <el-button type="primary" data-test="retire-now" @click="retire">Retire</el-button>
      </template>
    </el-dialog>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1.15fr) minmax(0, 1fr);
  gap: 36px;
}
section {
  display: grid;
  gap: 10px;
  align-content: start;
}
td {
  padding: 4px 10px 4px 0;
}
tr.here td {
  background: var(--leg-pale);
}
.actions {
  white-space: nowrap;
  text-align: right;
}
.actions :deep(.el-button) {
  margin: 0 0 0 4px;
}
input[type="color"] {
  width: 34px;
  height: 24px;
  padding: 0;
  border: 1px solid var(--sand);
  background: none;
  cursor: pointer;
}
.add {
  display: flex;
  gap: 6px;
}
.retired {
  display: flex;
  gap: 10px;
  align-items: center;
}
</style>
