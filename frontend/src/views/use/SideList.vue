<script setup lang="ts">
/** Things at the side of which one is shown: a name, and a line on each. Comma and full stop go through them. */
import { useKeys } from "@/state/keys";

const chosen = defineModel<number>({ required: true });
const props = defineProps<{
  items: { id: number; name: string; about: string }[];
  label: string;
  one: string;
  test: string;
}>();

function step(by: number): void {
  const place = props.items.findIndex((each) => each.id === chosen.value);
  const next = props.items[Math.min(Math.max(place + by, 0), props.items.length - 1)];
  if (next) chosen.value = next.id;
}
useKeys([
  { keys: ["."], label: `Next ${props.one}`, run: () => step(1) },
  { keys: [","], label: `Previous ${props.one}`, run: () => step(-1) },
]);
</script>

<template>
  <nav :aria-label="label">
    <button
      v-for="each in items"
      :key="each.id"
      type="button"
      :aria-current="each.id === chosen"
      :data-test="test"
      @click="chosen = each.id">
      <b>{{ each.name }}</b>
      <span class="soft">{{ each.about }}</span>
    </button>
  </nav>
</template>

<style scoped>
nav {
  border-right: 1px solid var(--rule);
  overflow: auto;
}
button {
  display: grid;
  width: 100%;
  padding: 10px 14px;
  border: 0;
  border-left: 3px solid transparent;
  background: none;
  text-align: left;
  cursor: pointer;
  color: inherit;
}
b {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
button[aria-current="true"] {
  border-left-color: var(--leg);
  background: var(--paper-deep);
}
.soft {
  font-size: 13px;
}
</style>
