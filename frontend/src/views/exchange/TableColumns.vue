<script setup lang="ts">
/** Which column of a table holds what, beside its first lines. */
import { computed, reactive, watch } from "vue";

import type { Columns, Outcome } from "@/api/client";

const props = defineProps<{ header: string[]; rows: string[][]; columns: Outcome<"read_labels">["columns"] }>();
const emit = defineEmits<{ chosen: [columns: Columns] }>();

const kinds: { value: Columns["kind"]; label: string; fields: string[] }[] = [
  { value: "corners", label: "Corners", fields: ["x1", "y1", "x2", "y2"] },
  { value: "corner and size", label: "Corner and size", fields: ["x", "y", "width", "height"] },
  { value: "bracketed", label: "One column [x, y, width, height]", fields: ["box"] },
];
const form = reactive({
  picture: "",
  label: "",
  kind: "corners" as Columns["kind"],
  values: [] as string[],
  fractions: false as boolean | null,
});
const fields = computed(() => kinds.find((each) => each.value === form.kind)!.fields);
const complete = computed(
  () => form.picture && form.fractions !== null && fields.value.every((_, index) => form.values[index]),
);

watch(
  () => props.columns,
  (found) => {
    if (found) Object.assign(form, { ...found, values: [...found.values] });
  },
  { immediate: true },
);

function send(): void {
  emit("chosen", {
    picture: form.picture,
    label: form.label,
    kind: form.kind,
    values: form.values.slice(0, fields.value.length),
    fractions: form.fractions === true,
  });
}
</script>

<template>
  <div class="columns" data-test="columns">
    <div class="scroll">
      <table class="figures head">
        <thead>
          <tr>
            <th v-for="name in header" :key="name">{{ name }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, index) in rows" :key="index">
            <td v-for="(cell, place) in row" :key="place">{{ cell }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <div class="picks">
      <label
        >Picture
        <el-select v-model="form.picture" size="small" placeholder="Column"
          ><el-option v-for="name in header" :key="name" :value="name" :label="name" /></el-select
      ></label>
      <label
        >Class
        <el-select v-model="form.label" size="small" clearable placeholder="All are one class"
          ><el-option v-for="name in header" :key="name" :value="name" :label="name" /></el-select
      ></label>
      <label
        >Box
        <el-select v-model="form.kind" size="small"
          ><el-option v-for="each in kinds" :key="each.value" :value="each.value" :label="each.label" /></el-select
      ></label>
      <label
        >Unit
        <el-select v-model="form.fractions" size="small" placeholder="Pixels or fractions" data-test="unit"
          ><el-option :value="false" label="Pixels" /><el-option
            :value="true"
            label="Fractions of the picture" /></el-select
      ></label>
      <label v-for="(field, index) in fields" :key="field"
        >{{ field }}
        <el-select v-model="form.values[index]" size="small" placeholder="Column"
          ><el-option v-for="name in header" :key="name" :value="name" :label="name" /></el-select
      ></label>
    </div>
    <el-button size="small" :disabled="!complete" data-test="read-columns" @click="send"
      >Read with these columns</el-button
    >
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  gap: 8px;
  justify-items: start;
}
.scroll {
  max-width: 100%;
  overflow-x: auto;
  font-size: 13px;
}
.head td,
.head th {
  padding: 2px 12px 2px 0;
  white-space: nowrap;
}
.picks {
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  gap: 8px;
  width: 100%;
}
.picks label {
  display: grid;
  font-size: 13px;
}
</style>
