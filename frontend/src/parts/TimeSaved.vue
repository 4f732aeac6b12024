<script setup lang="ts">
/** What proposals saved in time, with its range; or what is missing until that can be told. */
import { computed } from "vue";

import type { TimeOut } from "@/api/client";
import { count, duration } from "@/parts/format";

const props = defineProps<{
  time: TimeOut | null | undefined;
  /** How many of `by` tell what one takes by hand. */
  timed: number;
  /** What takes time: a box or an object. */
  of: string;
  /** What that is measured on. */
  by: string;
  /** What is needed until it can be told. */
  needs: string;
}>();

const length = (seconds: number): string => `${seconds < 0 ? "−" : ""}${duration(Math.abs(seconds))}`;
/** What was saved, or what it cost: from where to where. */
const range = computed(() => {
  const { saved, low, high } = props.time!;
  return saved >= 0 ? [low, high] : [-high, -low];
});
</script>

<template>
  <p data-test="time-saved">
    <template v-if="time">
      {{ time.saved >= 0 ? "Saved" : "Cost" }} about <b>{{ duration(Math.abs(time.saved)) }}</b>
      <span class="soft">
        ({{ length(range[0]!) }} to {{ length(range[1]!) }}): {{ of }} takes {{ time.by_hand.toFixed(1) }} s without
        proposals, measured on {{ count(timed, by) }}; these took {{ length(time.taken) }}.
      </span>
    </template>
    <span v-else class="soft">What that saves in time is told once {{ needs }}; {{ timed }} so far.</span>
  </p>
</template>
