<script setup lang="ts">
/** How programs call an address, and a place to drop a picture and see the answer. */
import { computed, ref, watch } from "vue";

import type { FoundPicture } from "@/api/client";
import { complain } from "@/state/notes";
import BoxOverlay from "@/parts/BoxOverlay.vue";
import { count } from "@/parts/format";

interface Answer {
  model: { name: string };
  milliseconds: number;
  pictures: {
    name: string;
    width: number;
    height: number;
    detections: { class: string; score: number; box: number[]; fractions: number[] }[];
  }[];
}

const props = defineProps<{ url: string; fresh: string }>();
const emit = defineEmits<{ called: [] }>();
const key = ref(props.fresh);
const way = ref<"curl" | "Python" | "avocet">("curl");
const over = ref(false);
const busy = ref(false);
const shown = ref("");
const took = ref(0);
const status = ref(0);
const answer = ref<Answer | null>(null);
const raw = ref("");
const input = ref<HTMLInputElement>();
watch(
  () => props.fresh,
  (made) => made && (key.value = made),
);

const said = computed(() => key.value || "KEY");
const examples = computed(() => ({
  curl: `curl ${props.url}/detections \\
  -H "Authorization: Bearer ${said.value}" \\
  -H "Content-Type: image/jpeg" --data-binary @picture.jpg`,
  Python: `import json, urllib.request

request = urllib.request.Request(
    "${props.url}/detections",
    data=open("picture.jpg", "rb").read(),
    headers={"Authorization": "Bearer ${said.value}",
             "Content-Type": "image/jpeg"})
for found in json.load(urllib.request.urlopen(request))["pictures"][0]["detections"]:
    print(found["class"], found["score"], found["box"])`,
  avocet: `import avocet

belt = avocet.at_address("${props.url}", "${said.value}")
for found in belt.find(pixels):
    print(found.class_name, found.score, found.box)`,
}));
const classes = computed(() => [...new Set(answer.value?.pictures[0]?.detections.map((each) => each.class) ?? [])]);
const picture = computed<FoundPicture | null>(() => {
  const first = answer.value?.pictures[0];
  if (!first) return null;
  return {
    place: 0,
    name: first.name,
    width: first.width,
    height: first.height,
    frame: null,
    seconds: null,
    annotated: "",
    boxes: first.detections.map((each) => each.box),
    scores: first.detections.map((each) => each.score),
    kinds: first.detections.map((each) => classes.value.indexOf(each.class)),
    objects: first.detections.map(() => 0),
  };
});

async function ask(file: File | undefined): Promise<void> {
  over.value = false;
  if (!file || busy.value) return;
  busy.value = true;
  const begun = performance.now();
  try {
    const reply = await fetch(`${props.url}/detections`, {
      method: "POST",
      headers: { Authorization: `Bearer ${key.value}`, "Content-Type": file.type || "application/octet-stream" },
      body: file,
    });
    took.value = performance.now() - begun;
    status.value = reply.status;
    const body: unknown = await reply.json();
    raw.value = JSON.stringify(body, null, 1);
    answer.value = reply.ok ? (body as Answer) : null;
    if (shown.value) URL.revokeObjectURL(shown.value);
    shown.value = reply.ok ? URL.createObjectURL(file) : "";
    setTimeout(() => emit("called"), 2500);
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
function chosen(event: Event): void {
  const target = event.target as HTMLInputElement;
  void ask(target.files?.[0]);
  target.value = "";
}
</script>

<template>
  <section>
    <h3>Call it</h3>
    <p class="ways">
      <button v-for="(_, each) in examples" :key="each" type="button" :aria-pressed="way === each" @click="way = each">
        {{ each === "avocet" ? "Python with avocet" : each }}
      </button>
    </p>
    <pre data-test="example">{{ examples[way] }}</pre>
    <p class="line">
      <el-input v-model="key" size="small" placeholder="Key" aria-label="Key" data-test="try-key" />
      <el-button size="small" :disabled="!key" :loading="busy" @click="input?.click()">Send a picture</el-button>
    </p>
    <input ref="input" type="file" accept="image/*" hidden aria-label="Picture" data-test="try-file" @change="chosen" />
    <div
      class="drop"
      :class="{ over }"
      @dragover.prevent="over = true"
      @dragleave="over = false"
      @drop.prevent="ask($event.dataTransfer?.files[0])">
      <div v-if="picture" class="frame" :style="{ aspectRatio: `${picture.width} / ${picture.height}` }">
        <img :src="shown" :alt="picture.name" />
        <BoxOverlay :picture="picture" :classes="classes" :line="2" :larger="1.9" captions />
      </div>
      <p v-else class="soft">Drop a picture here to see the answer.</p>
    </div>
    <p v-if="status" data-test="try-answer">
      <b :class="status === 200 ? 'good' : 'bad'">{{ status }}</b> in {{ took.toFixed(0) }} ms<template v-if="answer"
        >, {{ answer.milliseconds.toFixed(0) }} of them in the model's process; {{ answer.model.name }} found
        {{ count(answer.pictures[0]?.detections.length ?? 0, "box", "boxes") }}</template
      >
    </p>
    <details v-if="raw">
      <summary>The answer</summary>
      <pre class="raw">{{ raw }}</pre>
    </details>
  </section>
</template>

<style scoped>
section {
  display: grid;
  gap: 8px;
  margin-bottom: 20px;
}
.ways {
  display: flex;
  gap: 2px;
}
.ways button {
  border: 0;
  border-bottom: 2px solid transparent;
  background: none;
  padding: 2px 8px;
  cursor: pointer;
  color: var(--ink-soft);
}
.ways button[aria-pressed="true"] {
  border-bottom-color: var(--leg);
  color: var(--ink);
}
pre {
  margin: 0;
  padding: 8px 10px;
  background: var(--paper-deep);
  font-size: 12px;
  line-height: 1.45;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.raw {
  max-height: 260px;
  overflow: auto;
}
.line {
  display: flex;
  gap: 8px;
}
.drop {
  border: 1px dashed var(--sand);
  min-height: 56px;
  display: grid;
  place-items: center;
}
.drop.over {
  border-color: var(--leg);
}
.frame {
  position: relative;
  width: min(100%, 420px);
}
img {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
}
</style>
