<script setup lang="ts">
/** A line over the stage that says what a click does just now, where it is not drawing, and what ends it. */
import { count } from "@/parts/format";

withDefaults(
  defineProps<{
    corner: boolean;
    stamping?: boolean;
    /** Boxes that would be tighter. */
    tighter?: number;
    show?: { none: boolean; onlyChosen: boolean };
    pass?: string;
  }>(),
  { tighter: 0, show: () => ({ none: false, onlyChosen: false }), pass: "" },
);
</script>

<template>
  <p v-if="corner || tighter || stamping || show.none || show.onlyChosen || pass" class="mode" data-test="mode">
    <template v-if="corner">Click the opposite corner · <kbd>Esc</kbd> gives it up</template>
    <template v-else-if="tighter"
      >{{ count(tighter, "box", "boxes") }} would be tighter · <kbd>T</kbd> takes {{ tighter === 1 ? "it" : "them" }} ·
      <kbd>Esc</kbd> leaves {{ tighter === 1 ? "it" : "them" }}</template
    >
    <template v-else-if="stamping">Stamping: each click puts a box and tightens it · <kbd>S</kbd> ends</template>
    <template v-else-if="show.none">Boxes are hidden · <kbd>Shift</kbd> <kbd>H</kbd> shows them</template>
    <template v-else-if="show.onlyChosen">Only the selected box is shown · <kbd>H</kbd> shows all</template>
    <template v-else>Only {{ pass }} · <kbd>Q</kbd> ends the pass</template>
  </p>
</template>

<style scoped>
.mode {
  position: absolute;
  left: 50%;
  top: 10px;
  transform: translateX(-50%);
  padding: 4px 12px;
  background: var(--paper);
  border: 1px solid var(--sand);
  border-radius: 3px;
  font-size: 14px;
  white-space: nowrap;
  pointer-events: none;
}
</style>
