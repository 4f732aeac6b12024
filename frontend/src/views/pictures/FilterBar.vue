<script setup lang="ts">
/** What the grid shows, and in which order. */
import { onMounted, reactive, ref, watch } from "vue";

import { api, type Part, type PictureState, take } from "@/api/client";
import { capital, count } from "@/parts/format";
import { ORIGINS } from "@/parts/origins";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import type { PictureQuery } from "@/views/pictures/pictureList";

const query = defineModel<PictureQuery>({ required: true });
defineProps<{ total: number; filtered: boolean }>();
const store = useProject();

const choices = ref({ sources: [] as string[], tags: [] as string[], attributes: [] as string[] });
const filter = reactive({
  state: query.value.state as PictureState | "" | undefined,
  part: (query.value.unassigned ? "none" : query.value.part) as Part | "none" | "" | undefined,
  class_id: query.value.class_id,
  name: query.value.name ?? "",
  source: query.value.source,
  attribute: query.value.attribute,
  origin: query.value.origin,
  tag: query.value.tag,
  binned: query.value.binned ?? false,
  order: query.value.order ?? ("added" as const),
  descending: query.value.descending ?? false,
});

const states: { value: PictureState; label: string }[] = [
  { value: "unlabelled", label: "Not labelled" },
  { value: "in_progress", label: "In progress" },
  { value: "done", label: "Done" },
  { value: "empty", label: "No objects" },
];
const parts = ["training", "validation", "test"] as const;
const orders = [
  { value: "added", label: "Date added" },
  { value: "name", label: "Name" },
  { value: "boxes", label: "Number of boxes" },
  { value: "labelled", label: "Date labelled" },
  { value: "size", label: "Size in pixels" },
];

async function loadChoices(): Promise<void> {
  try {
    choices.value = await take(
      api.GET("/api/v1/projects/{project_id}/choices", { params: { path: { project_id: store.id } } }),
    );
  } catch (error) {
    complain(error);
  }
}
onMounted(loadChoices);

/** Show pictures of one state, whatever else was filtered by. */
function only(state: PictureState): void {
  Object.assign(filter, {
    state,
    part: undefined,
    class_id: undefined,
    name: "",
    source: undefined,
    attribute: undefined,
    origin: undefined,
    tag: undefined,
    binned: false,
  });
}
defineExpose({ loadChoices, only });

let waiting = 0;
watch(filter, () => {
  window.clearTimeout(waiting);
  waiting = window.setTimeout(() => {
    query.value = {
      state: filter.state || undefined,
      part: filter.part && filter.part !== "none" ? filter.part : undefined,
      unassigned: filter.part === "none" || undefined,
      class_id: filter.class_id || undefined,
      name: filter.name.trim() || undefined,
      source: filter.source || undefined,
      attribute: filter.attribute || undefined,
      origin: filter.origin || undefined,
      tag: filter.tag || undefined,
      binned: filter.binned || undefined,
      order: filter.order === "added" ? undefined : filter.order,
      descending: filter.descending || undefined,
    };
  }, 150);
});
</script>

<template>
  <div class="filters">
    <el-select v-model="filter.state" clearable placeholder="Any state" aria-label="State" size="small" class="pick">
      <el-option v-for="each in states" :key="each.value" :value="each.value" :label="each.label" />
    </el-select>
    <el-select v-model="filter.part" clearable placeholder="Any part" aria-label="Part" size="small" class="pick">
      <el-option v-for="each in parts" :key="each" :value="each" :label="capital(each)" />
      <el-option value="none" label="Unassigned" />
    </el-select>
    <el-select
      v-model="filter.class_id"
      clearable
      filterable
      placeholder="Any class"
      aria-label="Class"
      size="small"
      class="pick">
      <el-option
        v-for="each in store.allClasses"
        :key="each.id"
        :value="each.id"
        :label="`${each.name} (${each.boxes})`" />
    </el-select>
    <el-select
      v-model="filter.attribute"
      clearable
      placeholder="Any attribute"
      aria-label="Attribute"
      size="small"
      class="pick">
      <el-option v-for="each in choices.attributes" :key="each" :value="each" :label="each" />
    </el-select>
    <el-select v-model="filter.origin" clearable placeholder="Any origin" aria-label="Origin" size="small" class="pick">
      <el-option v-for="each in ORIGINS" :key="each.value" :value="each.value" :label="each.label" />
    </el-select>
    <el-select
      v-if="choices.sources.length"
      v-model="filter.source"
      clearable
      filterable
      placeholder="Any source"
      aria-label="Source"
      size="small"
      class="pick">
      <el-option v-for="each in choices.sources" :key="each" :value="each" :label="each" />
    </el-select>
    <el-select
      v-if="choices.tags.length"
      v-model="filter.tag"
      clearable
      filterable
      placeholder="Any tag"
      aria-label="Tag"
      size="small"
      class="pick">
      <el-option v-for="each in choices.tags" :key="each" :value="each" :label="each" />
    </el-select>
    <el-input v-model="filter.name" clearable placeholder="Name contains" aria-label="Name" size="small" class="pick" />
    <el-checkbox v-model="filter.binned" size="small">Bin</el-checkbox>
    <span class="spread" />
    <span v-if="filtered || filter.binned" class="soft" data-test="shown">{{ count(total, "picture") }}</span>
    <el-select v-model="filter.order" aria-label="Order" size="small" class="order">
      <el-option v-for="each in orders" :key="each.value" :value="each.value" :label="each.label" />
    </el-select>
    <el-button
      size="small"
      :aria-label="filter.descending ? 'Descending' : 'Ascending'"
      @click="filter.descending = !filter.descending">
      {{ filter.descending ? "↓" : "↑" }}
    </el-button>
  </div>
</template>

<style scoped>
.filters {
  display: flex;
  gap: 8px;
  align-items: center;
  padding: 8px 24px;
  border-bottom: 1px solid var(--rule);
  min-height: 44px;
}
.pick {
  width: 122px;
  min-width: 0;
  flex: 0 1 122px;
}
.order {
  width: 118px;
  flex: none;
}
.spread {
  flex: 1;
}
.soft {
  white-space: nowrap;
}
</style>
