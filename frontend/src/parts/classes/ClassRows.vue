<script setup lang="ts">
/** The classes with their numbers, one of them active; behind each how many there are here. */
import ClassBadge from "@/parts/classes/ClassBadge.vue";
import { useProject } from "@/state/project";

defineProps<{ active: number | null; counts: Map<number, number> }>();
const emit = defineEmits<{ class: [id: number] }>();
const store = useProject();
</script>

<template>
  <button
    v-for="each in store.classes"
    :key="each.id"
    class="choice-row"
    :class="{ chosen: each.id === active }"
    :aria-pressed="each.id === active"
    @click="emit('class', each.id)">
    <ClassBadge :number="each.position" :colour="each.colour" :name="each.name" />
    <span class="soft">{{ counts.get(each.id) ?? "" }}</span>
  </button>
</template>
