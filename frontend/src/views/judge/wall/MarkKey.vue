<script setup lang="ts">
/** The mark of a hit, a miss or a false alarm, as on the stage. */
defineProps<{ mark: "hit" | "miss" | "false_alarm" }>();
</script>

<template>
  <svg viewBox="0 0 20 20" width="16" height="16" aria-hidden="true" :class="mark">
    <circle cx="10" cy="10" r="8.5" fill="#15181b" />
    <path v-if="mark === 'hit'" d="M6 10l3 3.5 5-7" />
    <path v-else-if="mark === 'false_alarm'" d="M6.5 6.5l7 7M13.5 6.5l-7 7" />
    <circle v-else cx="10" cy="10" r="3.6" />
  </svg>
</template>

<style scoped>
svg {
  vertical-align: -3px;
  fill: none;
  stroke: #f08a6c;
  stroke-width: 2;
  flex: none;
}
.hit {
  stroke: #9dbb80;
}
</style>
