<script setup lang="ts">
/** Frames of a clip become pictures: how densely, which stretch, and a look at those that would be taken. */
import { computed, reactive, ref, watch } from "vue";

import { api, type Clip, take } from "@/api/client";
import { count } from "@/parts/format";
import { complain, say } from "@/state/notes";
import { useProject } from "@/state/project";

const shown = defineModel<boolean>({ required: true });
const props = defineProps<{
  clip: Clip;
  /** Labelled objects, whose boxes come along. */
  objects: number;
  /** What has to be saved first. */
  before?: () => Promise<unknown>;
}>();
const emit = defineEmits<{ started: [] }>();
const store = useProject();

const MOST_SHOWN = 60;

const order = reactive({ by: "rate" as "rate" | "differing" | "all", rate: 2, differing: 10, first: 0, last: 0 });
const finished = ref(false);
const frames = ref<number[] | null>(null);
const total = ref(0);
const looking = ref(false);
let asked = 0;

const body = computed(() => ({
  per_second: order.by === "rate" ? order.rate : null,
  differing: order.by === "differing" ? order.differing / 100 : null,
  first: order.first,
  last: order.last,
  finished: finished.value && props.objects > 0,
}));
/** Of very many frames some are shown, from begin to end. */
const some = computed(() => {
  const all = frames.value ?? [];
  const step = Math.max(1, all.length / MOST_SHOWN);
  return Array.from({ length: Math.min(all.length, MOST_SHOWN) }, (_, place) => all[Math.floor(place * step)]!);
});

watch(
  shown,
  async (open) => {
    if (!open) return;
    const params = { path: { clip_id: props.clip.id } };
    try {
      const detail = await take(api.GET("/api/v1/clips/{clip_id}", { params }));
      total.value = detail.times.length;
      [order.first, order.last] = [0, detail.times.length - 1];
      await plan();
    } catch (error) {
      complain(error);
    }
  },
  { immediate: true },
);
let timer = 0;
watch([() => ({ ...order })], () => {
  window.clearTimeout(timer);
  timer = window.setTimeout(() => shown.value && total.value && void plan(), 300);
});

async function plan(): Promise<void> {
  const mine = ++asked;
  looking.value = true;
  const params = { path: { clip_id: props.clip.id } };
  try {
    const asking = take(api.POST("/api/v1/clips/{clip_id}/plans", { params, body: body.value }));
    const { outcome } = await store.outcomeOf("plan_frames", asking);
    if (mine === asked) frames.value = outcome.frames;
  } catch (error) {
    if (mine === asked) complain(error);
  } finally {
    if (mine === asked) looking.value = false;
  }
}

async function start(): Promise<void> {
  try {
    await props.before?.();
    const params = { path: { clip_id: props.clip.id } };
    await take(api.POST("/api/v1/clips/{clip_id}/frames", { params, body: body.value }));
    say(`Frames of ${props.clip.name} are being taken; it goes on if you leave`);
    emit("started");
    shown.value = false;
  } catch (error) {
    complain(error);
  }
}
</script>

<template>
  <el-dialog v-model="shown" :title="`Frames of ${clip.name} as pictures`" width="720">
    <form class="body" novalidate data-test="frames-form" @submit.prevent="start">
      <el-radio-group v-model="order.by">
        <el-radio value="rate">So many a second</el-radio>
        <el-radio value="differing" data-test="by-differing">Those that differ</el-radio>
        <el-radio value="all">Every frame</el-radio>
      </el-radio-group>
      <div class="line">
        <label v-if="order.by === 'rate'"
          >Frames a second <el-input-number v-model="order.rate" :min="0.1" :max="60" :step="0.5" size="small"
        /></label>
        <label v-else-if="order.by === 'differing'"
          >At least <el-input-number v-model="order.differing" :min="1" :max="100" :step="5" size="small" /> % of the
          picture changed since the last one</label
        >
      </div>
      <div class="line">
        <label>From frame <el-input-number v-model="order.first" :min="0" :max="order.last" size="small" /></label>
        <label
          >to <el-input-number v-model="order.last" :min="order.first" :max="Math.max(0, total - 1)" size="small"
        /></label>
      </div>
      <p data-test="planned" role="status">
        <b v-if="frames">{{ count(frames.length, "frame") }}</b> {{ frames ? `of ${total}` : "" }}
        <span v-if="looking" class="soft">looking at the clip</span>
        <span v-if="frames && some.length < frames.length" class="soft">; {{ some.length }} of them shown</span>
      </p>
      <div class="strip">
        <figure v-for="each in some" :key="each">
          <img :src="`/api/v1/clips/${clip.id}/frames/${each}?width=160`" :alt="`Frame ${each}`" loading="lazy" />
          <figcaption>{{ each }}</figcaption>
        </figure>
      </div>
      <template v-if="objects">
        <el-checkbox v-model="finished" data-test="finished"
          >All objects on these frames are labelled: the pictures are done</el-checkbox
        >
        <p class="soft">
          The boxes of {{ count(objects, "object") }} come along. Pictures that were labelled by themselves keep their
          boxes.
        </p>
      </template>
      <p class="soft">Frames are kept exactly as they are. All frames of a clip stay in one part of the split.</p>
    </form>
    <template #footer>
      <el-button @click="shown = false">Close</el-button>
      <el-button type="primary" :disabled="!frames?.length" data-test="sample" @click="start">Take frames</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.body {
  display: grid;
  gap: 10px;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
}
.line :deep(.el-input-number) {
  width: 104px;
}
.strip {
  display: flex;
  gap: 6px;
  overflow-x: auto;
  min-height: 92px;
  padding-bottom: 6px;
}
figure {
  margin: 0;
  flex: none;
}
.strip img {
  height: 68px;
  display: block;
  background: var(--stage);
}
figcaption {
  font-size: 12px;
  color: var(--ink-soft);
}
</style>
