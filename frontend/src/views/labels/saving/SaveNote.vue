<script setup lang="ts">
/** Whether what is on screen is saved, and if not, why. */
import type { SaveState } from "@/views/labels/saving/saving";

defineProps<{
  saving: SaveState;
  /** Why the server did not take it. */
  refusal: string;
}>();
</script>

<template>
  <span class="save" :class="saving" data-test="save-state" role="status">
    <template v-if="saving === 'saved'">Saved</template>
    <template v-else-if="saving === 'offline'">Kept in this browser; sent as soon as the server answers</template>
    <template v-else-if="saving === 'refused'">Not saved: {{ refusal }}</template>
    <template v-else-if="saving === 'conflict'">Not saved: changed elsewhere</template>
    <template v-else>Saving</template>
  </span>
</template>

<style scoped>
.save {
  font-size: 14px;
  color: var(--reed-deep);
}
.save.waiting,
.save.saving {
  color: var(--ink-soft);
}
.save.offline,
.save.refused,
.save.conflict {
  color: var(--brick);
}
</style>
