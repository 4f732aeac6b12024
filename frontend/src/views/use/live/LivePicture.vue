<script setup lang="ts">
/** What a camera shows now, or what appeared last in a folder, with its boxes, speed, delay and counts. */
import { computed, onBeforeUnmount, onMounted, ref } from "vue";

import { api, type FoundPicture, type Live, type LiveNow, take } from "@/api/client";
import { capital, count, whole } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import SendCamera from "@/views/use/live/SendCamera.vue";
import { THIS_COMPUTER } from "@/views/use/live/sending";
import BoxOverlay from "@/parts/BoxOverlay.vue";
import FittedPicture from "@/parts/FittedPicture.vue";

const props = defineProps<{ live: Live; going: boolean }>();
const emit = defineEmits<{ stop: []; goOn: []; bin: []; changed: [] }>();
const store = useProject();

const PAUSE = 70;
const now = ref<LiveNow | null>(null);
const jpeg = ref("");
const picture = ref<FoundPicture | null>(null);
const delay = ref<number | null>(null);
const silent = ref(false);
let timer = 0;
let gone = false;

async function look(): Promise<void> {
  const begun = performance.now();
  try {
    const params = { path: { live_id: props.live.id }, query: { after: now.value?.number ?? 0 } };
    const said = await take(api.GET("/api/v1/live/{live_id}/now", { params }));
    // What it takes to bring the picture here is part of the delay, and half the way there is not known.
    const way = (performance.now() - begun) / 1000;
    if (said.jpeg) {
      jpeg.value = `data:image/jpeg;base64,${said.jpeg}`;
      picture.value = {
        place: 0,
        name: props.live.name,
        width: said.width ?? 1,
        height: said.height ?? 1,
        frame: null,
        seconds: null,
        annotated: "",
        boxes: said.boxes,
        scores: said.scores,
        kinds: said.kinds,
        objects: said.objects,
      };
      delay.value = said.age === null ? null : said.age + way;
    }
    now.value = said;
    silent.value = props.going && said.written_ago > 5;
  } catch {
    silent.value = true;
  }
  if (!gone) timer = setTimeout(() => void look(), props.going ? PAUSE : 1500) as unknown as number;
}
async function record(on: boolean): Promise<void> {
  try {
    const params = { path: { live_id: props.live.id } };
    await take(api.POST("/api/v1/live/{live_id}/recording", { params, body: { on } }));
    setTimeout(() => emit("changed"), 1500);
  } catch (error) {
    complain(error);
  }
}
const recording = computed(() => now.value?.recording ?? null);
const state = computed(() => {
  if (!props.going) return props.live.job.state;
  // What was shown before it was stopped is not what is seen now.
  if (silent.value || !now.value || props.live.job.state === "waiting") return "starting";
  return now.value.state;
});
const most = computed(() => Math.max(1, ...Object.values(now.value?.last_minute ?? {})));
const colour = (name: string): string => store.classes.find((each) => each.name === name)?.colour ?? "var(--sand)";

onMounted(look);
onBeforeUnmount(() => {
  gone = true;
  clearTimeout(timer);
});
useKeys([
  {
    keys: ["Shift+o"],
    label: "Record, or end the recording",
    run: () => props.live.kind === "camera" && props.going && record(!recording.value),
  },
]);
</script>

<template>
  <div class="live">
    <FittedPicture :width="picture?.width" :height="picture?.height">
      <img :src="jpeg" :alt="live.name" data-test="live-picture" />
      <BoxOverlay v-if="picture" :picture="picture" :classes="now?.classes ?? []" :line="2" captions />
      <template #beside>
        <p v-if="!picture">{{ going ? "Waiting for the first picture" : "Nothing was shown yet" }}</p>
        <p v-if="going && now?.message" class="over" data-test="live-message">{{ now.message }}</p>
      </template>
    </FittedPicture>
    <aside>
      <SendCamera v-if="live.source === THIS_COMPUTER && going" :live-id="live.id" />
      <section>
        <p class="big" data-test="live-state">{{ capital(state) }}</p>
        <p class="soft source">{{ live.source }}</p>
        <p v-if="now && going">
          <b data-test="live-speed">{{ now.frames_per_second }}</b>
          {{ live.kind === "camera" ? "frames" : "pictures" }} a second<template
            v-if="live.kind === 'camera' && state === 'live' && delay !== null"
            >, <b data-test="live-delay">{{ Math.round(1000 * delay) }}</b> ms from camera to screen</template
          >
        </p>
        <p v-if="now?.reconnects" class="soft">Lost {{ count(now.reconnects, "time") }} so far</p>
        <p class="buttons">
          <el-button v-if="going" v-hint="'Stop'" size="small" data-test="stop-live" @click="emit('stop')"
            >Stop</el-button
          >
          <el-button
            v-else-if="live.job.resumable"
            v-hint="'Resume'"
            size="small"
            type="primary"
            data-test="resume-live"
            @click="emit('goOn')"
            >Resume</el-button
          >
          <el-button
            v-if="going && live.kind === 'camera'"
            size="small"
            data-test="record"
            @click="record(!recording)"
            >{{ recording ? "End recording" : "Record" }}</el-button
          >
          <el-button size="small" @click="emit('bin')">Move to bin</el-button>
        </p>
        <p v-if="recording" class="bad" data-test="recording">Recording {{ recording }}</p>
        <p v-if="live.job.state === 'failed'" class="notice bad">{{ live.job.message }}</p>
      </section>
      <section v-if="now" data-test="last-minute">
        <h3>{{ live.kind === "camera" ? "Objects" : "Boxes" }} of the last minute</h3>
        <div v-for="name in now.classes" :key="name" class="class-line">
          <span>{{ name }}</span>
          <i :style="{ width: `${(100 * (now.last_minute[name] ?? 0)) / most}%`, background: colour(name) }" />
          <b>{{ now.last_minute[name] ?? 0 }}</b>
        </div>
      </section>
      <section v-if="live.kind === 'folder' && now">
        <p>
          <b data-test="folder-done">{{ whole(now.done) }}</b> looked at since it started,
          {{ whole(now.waiting) }} waiting
        </p>
        <p class="soft source">Results in {{ live.out }}</p>
        <p v-for="each in now.latest" :key="`${each.name} ${each.at}`" class="latest">
          {{ each.name }} <span class="soft">{{ count(each.boxes as number, "box", "boxes") }}</span>
        </p>
        <p v-for="each in now.problems" :key="each" class="bad">{{ each }}</p>
      </section>
      <section v-if="live.recordings.length">
        <h3>Recordings</h3>
        <p v-for="each in live.recordings" :key="each">
          <a :href="`/api/v1/live/${live.id}/recordings/${each}?download`">{{ each }}</a>
          <a :href="`/api/v1/live/${live.id}/recordings/${each.replace('.mp4', '.jsonl')}?download`">boxes</a>
        </p>
      </section>
      <section class="soft about">
        {{ live.model }}, minimum score {{ live.minimum_score }}<br />{{ now?.engine }}
      </section>
    </aside>
  </div>
</template>

<style scoped>
.live {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 270px;
  min-height: 0;
}
.over {
  position: absolute;
  left: 0;
  right: 0;
  bottom: 0;
  padding: 8px 14px;
  background: rgb(16 18 20 / 85%);
}
aside {
  border-left: 1px solid var(--rule);
  overflow: auto;
}
section {
  display: grid;
  gap: 5px;
  padding: 12px 14px;
  border-bottom: 1px solid var(--rule);
}
.big {
  font: 560 24px/1.2 var(--serif);
}
.source,
.latest {
  overflow-wrap: anywhere;
  font-size: 13px;
}
.buttons .el-button + .el-button {
  margin-left: 6px;
}
.class-line {
  display: grid;
  grid-template-columns: 80px minmax(0, 1fr) 40px;
  gap: 8px;
  align-items: center;
}
.class-line i {
  height: 9px;
  min-width: 1px;
}
.class-line b {
  text-align: right;
}
.about {
  font-size: 13px;
}
</style>
