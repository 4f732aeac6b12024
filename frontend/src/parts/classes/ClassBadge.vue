<script setup lang="ts">
/** A class: its number key on its colour, and its name. */
defineProps<{ number: number; colour: string; name?: string }>();
</script>

<template>
  <span class="class-badge"
    ><b :style="{ background: colour }">{{ number }}</b
    ><span v-if="name">{{ name }}</span></span
  >
</template>

<style scoped>
.class-badge {
  display: inline-flex;
  align-items: center;
  gap: 7px;
  min-width: 0;
}
b {
  min-width: 20px;
  height: 20px;
  padding: 0 4px;
  border-radius: 3px;
  display: inline-grid;
  place-items: center;
  font: 600 13px/1 var(--sans);
  color: #15181b;
}
</style>
