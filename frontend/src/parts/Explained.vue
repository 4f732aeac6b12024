<script setup lang="ts">
/** A word or a figure with what it means, for the pointer and for the keyboard. */
defineProps<{ says: string }>();
</script>

<template>
  <el-tooltip
    :content="says"
    placement="top"
    :show-after="150"
    :trigger="['hover', 'focus']"
    popper-class="explanation">
    <span class="explained" tabindex="0"><slot /></span>
  </el-tooltip>
</template>

<style>
.explained {
  text-decoration: underline dotted var(--ink-soft);
  text-underline-offset: 3px;
  cursor: help;
}
.explanation {
  max-width: 320px;
}
</style>
