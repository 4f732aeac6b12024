<script setup lang="ts">
/** A class found by typing a part of its name, or its number; the last used come first. */
import { computed, nextTick, ref, watch } from "vue";

import ClassBadge from "@/parts/classes/ClassBadge.vue";
import { classesLike, classesUsed } from "@/state/classesUsed";
import { useProject } from "@/state/project";

const open = defineModel<boolean>("open", { required: true });
const props = defineProps<{ title: string; adds?: boolean; without?: number }>();
const emit = defineEmits<{ pick: [id: number]; add: [name: string] }>();

const store = useProject();
const typed = ref("");
const at = ref(0);
const list = ref<HTMLElement>();
const offered = computed(() => store.classes.filter((each) => each.id !== props.without));
const found = computed(() => classesLike(offered.value, typed.value, classesUsed(store.id)));
/** What was typed is no class yet. */
const added = computed(() => {
  const name = typed.value.trim();
  return props.adds && name && !store.classes.some((each) => each.name === name) ? name : "";
});

watch(open, () => (typed.value = ""));
watch(typed, () => (at.value = 0));

async function step(by: number): Promise<void> {
  const last = found.value.length - (added.value ? 0 : 1);
  at.value = Math.min(Math.max(at.value + by, 0), Math.max(last, 0));
  await nextTick();
  list.value?.querySelector(".at")?.scrollIntoView({ block: "nearest" });
}

function pick(place: number): void {
  const chosen = found.value[place];
  if (!chosen && !added.value) return;
  open.value = false;
  if (chosen) emit("pick", chosen.id);
  else emit("add", added.value);
}
</script>

<template>
  <el-dialog v-model="open" :title="title" width="340" top="14vh" append-to-body>
    <el-input
      v-model="typed"
      placeholder="Name or number"
      aria-label="Name or number of the class"
      data-test="class-typed"
      @keydown.down.prevent="step(1)"
      @keydown.up.prevent="step(-1)"
      @keydown.enter.prevent="pick(at)" />
    <div ref="list" class="list" role="listbox" aria-label="Classes">
      <button
        v-for="(each, place) in found"
        :key="each.id"
        type="button"
        role="option"
        :aria-selected="place === at"
        :class="{ at: place === at }"
        data-test="class-found"
        @click="pick(place)">
        <ClassBadge :number="each.position" :colour="each.colour" :name="each.name" />
      </button>
      <button
        v-if="added"
        type="button"
        role="option"
        :aria-selected="at === found.length"
        :class="{ at: at === found.length }"
        data-test="class-add"
        @click="pick(found.length)">
        Add class {{ added }}
      </button>
      <p v-if="!found.length && !added" class="soft">No class is called so.</p>
    </div>
    <p class="soft how"><kbd>↑</kbd> <kbd>↓</kbd> and <kbd>Enter</kbd> choose · last used first</p>
  </el-dialog>
</template>

<style scoped>
.list {
  max-height: 44vh;
  overflow: auto;
  margin: 8px 0;
}
button {
  display: block;
  width: 100%;
  padding: 4px 8px;
  border: 0;
  border-left: 3px solid transparent;
  background: none;
  text-align: left;
  color: inherit;
  cursor: pointer;
}
button:hover {
  background: var(--paper-deep);
}
button.at {
  border-left-color: var(--leg);
  background: var(--leg-pale);
}
.how {
  font-size: 14px;
}
</style>
