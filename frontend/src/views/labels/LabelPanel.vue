<script setup lang="ts">
/** Beside the stage: classes with their keys, the boxes of this picture, what to do next. */
import { computed, nextTick, ref, watch } from "vue";

import { api, type Labels, take } from "@/api/client";
import ClassBadge from "@/parts/classes/ClassBadge.vue";
import ClassRows from "@/parts/classes/ClassRows.vue";
import { complain, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";
import type { DrawnBox } from "@/api/client";

const props = defineProps<{
  boxes: DrawnBox[];
  selection: number[];
  activeClass: number | null;
  state: Labels["state"];
  stamping: boolean;
  /** The selected box was just drawn. */
  fresh: boolean;
}>();
const emit = defineEmits<{
  class: [id: number];
  findClass: [];
  select: [index: number];
  remove: [];
  empty: [];
  done: [];
  nextUnlabelled: [];
  tighten: [];
  stamp: [];
  fromPrevious: [];
}>();

const store = useProject();
const newClass = ref("");
const list = ref<HTMLElement>();
const counts = computed(() => {
  const found = new Map<number, number>();
  for (const box of props.boxes) found.set(box.class_id, (found.get(box.class_id) ?? 0) + 1);
  return found;
});
const states: Record<Labels["state"], string> = {
  unlabelled: "Not labelled",
  in_progress: "In progress",
  done: "Done",
  empty: "No objects",
};

watch(
  () => props.selection.at(-1),
  async (place) => {
    await nextTick();
    if (place !== undefined) list.value?.querySelectorAll(".choice-row")[place]?.scrollIntoView({ block: "nearest" });
  },
);

/** Make a class and go on with it; the keys are the picture's again. */
async function addClass(given = newClass.value): Promise<void> {
  const name = given.trim();
  if (!name) return;
  if (document.activeElement instanceof HTMLElement) document.activeElement.blur();
  try {
    const made = await take(
      api.POST("/api/v1/projects/{project_id}/classes", {
        params: { path: { project_id: store.id } },
        body: { name },
      }),
    );
    store.allClasses = made.classes;
    newClass.value = "";
    const added = store.classes.find((each) => each.name === name);
    if (!added) return;
    emit("class", added.id);
    if (made.change_id) sayWithUndo(`Class ${added.name} added`, () => store.undoChange(made.change_id!));
  } catch (error) {
    complain(error);
  }
}

defineExpose({ addClass });

function sizeOf({ corners: [x1, y1, x2, y2] }: DrawnBox): string {
  return `${Math.round(x2 - x1)}×${Math.round(y2 - y1)}`;
}
</script>

<template>
  <aside class="panel">
    <section>
      <h3>
        Classes
        <el-button
          v-hint="'Find a class by its name'"
          link
          size="small"
          data-test="find-class"
          @click="emit('findClass')"
          >Find</el-button
        >
      </h3>
      <p v-if="store.classes.length" class="soft means" data-test="digits-mean">
        <b>1–{{ store.classes.at(-1)!.position }}</b>
        <template v-if="fresh"> next box, <b>Shift</b> this one</template>
        <template v-else-if="selection.length"
          >{{ selection.length > 1 ? " these boxes" : " this box" }} and new ones</template
        >
        <template v-else> new boxes</template>
      </p>
      <ClassRows :active="activeClass" :counts="counts" @class="emit('class', $event)" />
      <form novalidate @submit.prevent="addClass()">
        <el-input
          v-model="newClass"
          size="small"
          placeholder="New class"
          aria-label="New class"
          data-test="new-class" />
      </form>
    </section>
    <slot />
    <section ref="list" class="boxes">
      <h3>{{ boxes.length ? `Boxes` : "No boxes yet" }}</h3>
      <p v-if="!boxes.length && store.classes.length" class="soft">Drag over an object to draw its box.</p>
      <button
        v-for="(box, index) in boxes"
        :key="index"
        class="choice-row"
        :class="{ chosen: selection.includes(index) }"
        data-test="box-row"
        :data-corners="box.corners.join(' ')"
        @click="emit('select', index)">
        <ClassBadge
          :number="store.classById.get(box.class_id)?.position ?? 0"
          :colour="store.classById.get(box.class_id)?.colour ?? '#A9B8C9'"
          :name="store.classById.get(box.class_id)?.name" />
        <span class="soft">{{ sizeOf(box) }} px</span>
      </button>
    </section>
    <section class="actions">
      <p data-test="picture-state" class="state" :class="state">{{ states[state] }}</p>
      <div class="pair">
        <el-button
          v-hint="'Tighten the selected boxes, or all'"
          size="small"
          :disabled="!boxes.length"
          data-test="tighten"
          @click="emit('tighten')"
          >Tighten</el-button
        >
        <el-button
          v-hint="'Stamp: one click, one box'"
          size="small"
          :type="stamping ? 'primary' : 'default'"
          data-test="stamp"
          @click="emit('stamp')"
          >Stamp</el-button
        >
        <el-button
          v-hint="'Boxes of the previous picture'"
          size="small"
          data-test="from-previous"
          @click="emit('fromPrevious')"
          >From previous</el-button
        >
        <el-button
          v-hint="'Delete the selected boxes'"
          size="small"
          :disabled="!selection.length"
          @click="emit('remove')"
          >Delete</el-button
        >
        <el-button v-hint="'No objects'" size="small" data-test="nothing-here" @click="emit('empty')">{{
          state === "empty" ? "Not empty" : "No objects"
        }}</el-button>
        <el-button v-hint="'Next unlabelled picture'" size="small" @click="emit('nextUnlabelled')"
          >Next unlabelled</el-button
        >
      </div>
      <el-button v-hint="'Done, and next picture'" type="primary" data-test="done" @click="emit('done')"
        >Done, next picture</el-button
      >
    </section>
  </aside>
</template>

<style scoped>
.panel {
  border-left: 1px solid var(--rule);
  display: flex;
  flex-direction: column;
  min-height: 0;
}
section {
  padding: 12px 12px;
  border-bottom: 1px solid var(--rule);
}
h3 {
  margin-bottom: 6px;
}
h3 {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
h3 :deep(.el-button) {
  font: 400 14px/1 var(--sans);
}
.means {
  margin-bottom: 4px;
  font-size: 14px;
}
.boxes h3 {
  position: sticky;
  top: -12px;
  padding: 4px 0;
  background: var(--paper);
}
.boxes {
  flex: 1;
  min-height: 90px;
  overflow: auto;
}
.panel > section:first-child {
  overflow: auto;
  max-height: 38%;
  flex: none;
}
form {
  margin-top: 6px;
}
.actions {
  display: grid;
  gap: 7px;
  border-bottom: 0;
}
.actions :deep(.el-button) {
  margin: 0;
  width: 100%;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 6px;
}
.state {
  font-weight: 600;
}
.state.done,
.state.empty {
  color: var(--reed-deep);
}
</style>
