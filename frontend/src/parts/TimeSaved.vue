<script setup lang="ts">
/** What proposals saved in time, with its range; or what is missing until that can be told. */
import { count, duration } from "@/parts/format";
import type { TimeOut } from "@/api/client";

defineProps<{
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

const length = (seconds: number): string => duration(Math.abs(seconds));
</script>

<template>
  <p data-test="time-saved">
    <template v-if="time">
      {{ time.saved >= 0 ? "Saved" : "Cost" }} about <b>{{ length(time.saved) }}</b>
      <span class="soft">
        ({{ time.low < 0 ? "−" : "" }}{{ length(time.low) }} to {{ time.high < 0 ? "−" : "" }}{{ length(time.high) }}):
        {{ of }} takes {{ time.by_hand.toFixed(1) }} s without proposals, measured on {{ count(timed, by) }}; these took
        {{ length(time.taken) }}.
      </span>
    </template>
    <span v-else class="soft">What that saves in time is told once {{ needs }}; {{ timed }} so far.</span>
  </p>
</template>
