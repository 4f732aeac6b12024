<script setup lang="ts">
/** The objects of a detection run's clips, each once: from when to when it is in sight. */
import { onMounted, ref } from "vue";

import { count } from "@/parts/format";
import Explained from "@/parts/Explained.vue";
import { useKeys } from "@/state/keys";
import { wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";

export interface ClipObject {
  object: number;
  clip: string;
  class: string;
  first_seconds: number;
  last_seconds: number;
  frames_seen: number;
}

const props = defineProps<{ address: string; download: string }>();
const emit = defineEmits<{ go: [found: ClipObject] }>();
const store = useProject();
const objects = ref<ClipObject[]>([]);
const loaded = ref(false);
const failed = ref("");
const chosen = ref(0);

async function load(): Promise<void> {
  try {
    const reply = await fetch(props.address);
    if (!reply.ok) throw new Error("The objects of this run cannot be read.");
    objects.value = ((await reply.json()) as { objects: ClipObject[] }).objects;
    loaded.value = true;
  } catch (error) {
    failed.value = wordsOf(error);
  }
}
function go(found: ClipObject | undefined): void {
  if (!found) return;
  chosen.value = found.object;
  emit("go", found);
}
function step(by: number): void {
  const place = objects.value.findIndex((each) => each.object === chosen.value);
  go(objects.value[place < 0 ? 0 : Math.min(Math.max(place + by, 0), objects.value.length - 1)]);
}
const colour = (name: string): string => store.classes.find((each) => each.name === name)?.colour ?? "var(--sand)";
const seconds = (value: number): string => value.toFixed(1);

onMounted(load);
useKeys([
  { keys: ["j"], label: "Next object: its first sight", run: () => step(1) },
  { keys: ["Shift+j"], label: "Previous object: its first sight", run: () => step(-1) },
]);
</script>

<template>
  <section class="objects" data-test="clip-objects">
    <p v-if="failed" class="notice bad">{{ failed }}</p>
    <template v-else-if="loaded">
      <header>
        <Explained
          says="Boxes of the same thing on successive frames are linked and count as one object. What is seen on fewer than 3 frames counts as none."
          ><span class="big">{{ count(objects.length, "object") }}</span></Explained
        >
        <a :href="download" data-test="objects-csv"><el-button tag="span" size="small">CSV</el-button></a>
      </header>
      <p v-if="!objects.length" class="soft">Nothing was seen on three frames.</p>
      <button
        v-for="each in objects"
        :key="each.object"
        type="button"
        data-test="clip-object"
        :class="{ chosen: each.object === chosen }"
        :title="`${each.clip}, seen on ${each.frames_seen} frames`"
        @click="go(each)">
        <i :style="{ background: colour(each.class) }" />
        <b>{{ each.object }}</b> {{ each.class }}
        <span class="soft">{{ seconds(each.first_seconds) }} to {{ seconds(each.last_seconds) }} s</span>
      </button>
    </template>
  </section>
</template>

<style scoped>
.objects {
  padding: 12px 14px;
  border-bottom: 1px solid var(--rule);
}
header {
  display: flex;
  align-items: center;
  justify-content: space-between;
  margin-bottom: 6px;
}
.big {
  font: 560 24px/1.2 var(--serif);
}
button {
  display: grid;
  grid-template-columns: 12px 28px minmax(0, 1fr) auto;
  gap: 6px;
  align-items: center;
  width: 100%;
  padding: 3px 4px;
  border: 0;
  background: none;
  font: inherit;
  font-variant-numeric: tabular-nums;
  color: inherit;
  text-align: left;
  cursor: pointer;
}
button:hover,
button.chosen {
  background: var(--paper-deep);
}
i {
  width: 10px;
  height: 10px;
}
b {
  text-align: right;
}
</style>
