<script setup lang="ts">
/** What can be said of a box beside its class: added, renamed, given other choices, removed; all can be undone. */
import { reactive, ref } from "vue";

import { api, type Attribute, type Job, type Outcome, take } from "@/api/client";
import { count } from "@/parts/format";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";

const store = useProject();
const fresh = reactive({
  name: "",
  kind: "flag" as Attribute["kind"],
  class_id: null as number | null,
  choices: "",
});
const kinds = { flag: "yes or no", choice: "one of several", number: "a number" };
const READY_MADE = ["occluded", "cut off", "ignore"];
/** The attribute that is being changed, its name, and its choices with what each was called before. */
const editing = ref<Attribute | null>(null);
const name = ref("");
const choices = ref<{ value: string; was: string | null }[]>([]);

async function add(): Promise<void> {
  try {
    const params = { path: { project_id: store.id } };
    const body = { ...fresh, choices: fresh.choices.split(",") };
    const found = await take(api.POST("/api/v1/projects/{project_id}/attributes", { params, body }));
    store.attributes = found.attributes;
    Object.assign(fresh, { name: "", choices: "", class_id: null });
    store.sayChange(`Attribute ${found.attributes.at(-1)!.name} added`, found.change_id);
  } catch (error) {
    complain(error);
  }
}

async function changed(asking: Promise<Outcome<"change_attribute"> | { job: Job }>): Promise<void> {
  try {
    const made = await store.madeBy("change_attribute", asking);
    await store.loadAttributes();
    const boxes = made.changed ? ` on ${count(made.changed, "box", "boxes")}` : "";
    store.sayChange(`${made.title}${boxes}`, made.change_id);
  } catch (error) {
    complain(error);
  }
}

const of = (each: Attribute) => ({ path: { project_id: store.id, attribute_id: each.id } });

function remove(each: Attribute): Promise<void> {
  const path = "/api/v1/projects/{project_id}/attributes/{attribute_id}";
  return changed(take(api.DELETE(path, { params: of(each) })));
}

function edit(each: Attribute): void {
  editing.value = each;
  name.value = each.name;
  choices.value = each.choices.map((value) => ({ value, was: value }));
}

async function save(): Promise<void> {
  const each = editing.value!;
  editing.value = null;
  const given = choices.value.filter((choice) => choice.value.trim());
  const body = { name: name.value, choices: each.kind === "choice" ? given : null };
  const path = "/api/v1/projects/{project_id}/attributes/{attribute_id}";
  await changed(take(api.PATCH(path, { params: of(each), body })));
}
</script>

<template>
  <section data-test="attributes">
    <h2>Attributes</h2>
    <p class="soft">
      What can be said of a box beside its class. Boxes marked 'ignore' are not counted when a detector is measured.
    </p>
    <table class="figures">
      <thead>
        <tr>
          <th>Name</th>
          <th>Holds</th>
          <th>Of</th>
          <th class="number">Boxes</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in store.attributes" :key="each.id" :data-test="`attribute-${each.name}`">
          <td>{{ each.name }}</td>
          <td>{{ each.kind === "choice" ? each.choices.join(", ") : kinds[each.kind] }}</td>
          <td>{{ each.class_id ? store.classById.get(each.class_id)?.name : "all classes" }}</td>
          <td class="number">
            <router-link :to="{ path: `/project/${store.id}/collect`, query: { attribute: each.name } }">{{
              each.boxes
            }}</router-link>
          </td>
          <td>
            <template v-if="!READY_MADE.includes(each.name)">
              <el-button size="small" link type="primary" data-test="edit-attribute" @click="edit(each)"
                >Change</el-button
              >
              <el-button size="small" link type="primary" data-test="remove-attribute" @click="remove(each)"
                >Remove</el-button
              >
            </template>
          </td>
        </tr>
      </tbody>
    </table>
    <form novalidate class="attribute" @submit.prevent="add">
      <el-input
        v-model="fresh.name"
        size="small"
        placeholder="New attribute"
        aria-label="New attribute"
        data-test="add-attribute" />
      <el-select v-model="fresh.kind" size="small" aria-label="What it holds" data-test="attribute-kind">
        <el-option v-for="(label, value) in kinds" :key="value" :value="value" :label="label" />
      </el-select>
      <el-input
        v-if="fresh.kind === 'choice'"
        v-model="fresh.choices"
        size="small"
        placeholder="pale, dark"
        aria-label="Values, separated by commas"
        data-test="attribute-choices" />
      <el-select
        v-model="fresh.class_id"
        size="small"
        clearable
        placeholder="All classes"
        aria-label="Of which class"
        :value-on-clear="null">
        <el-option v-for="each in store.classes" :key="each.id" :value="each.id" :label="each.name" />
      </el-select>
      <el-button size="small" native-type="submit" :disabled="!fresh.name.trim()">Add</el-button>
    </form>
    <el-dialog
      :model-value="editing !== null"
      :title="`Change ${editing?.name ?? ''}`"
      width="420"
      append-to-body
      @close="editing = null">
      <form novalidate class="edit" @submit.prevent="save">
        <label>Name <el-input v-model="name" data-test="attribute-name" /></label>
        <template v-if="editing?.kind === 'choice'">
          <p class="soft">Boxes follow a value that is renamed, and lose one that is emptied or removed.</p>
          <div v-for="(choice, index) in choices" :key="index" class="choice">
            <el-input
              v-model="choice.value"
              :aria-label="choice.was ? `Value ${choice.was}` : 'New value'"
              data-test="choice" />
            <el-button link type="primary" :aria-label="`Remove ${choice.value}`" @click="choices.splice(index, 1)"
              >Remove</el-button
            >
          </div>
          <el-button link type="primary" data-test="add-choice" @click="choices.push({ value: '', was: null })"
            >Add a value</el-button
          >
        </template>
        <p v-if="editing?.boxes" class="soft">{{ count(editing.boxes, "box has", "boxes have") }} it.</p>
      </form>
      <template #footer
        ><el-button type="primary" :disabled="!name.trim()" data-test="save-attribute" @click="save"
          >Change</el-button
        ></template
      >
    </el-dialog>
  </section>
</template>

<style scoped>
.attribute {
  display: flex;
  gap: 8px;
  margin-top: 10px;
  max-width: 640px;
}
.attribute :deep(.el-select) {
  width: 130px;
  flex: none;
}
.edit {
  display: grid;
  gap: 8px;
  justify-items: start;
}
.edit label,
.choice {
  display: flex;
  gap: 8px;
  align-items: center;
  width: 100%;
}
</style>
