<script setup lang="ts">
/** How a clip is labelled, which stretch of it counts, and which of its frames are learnt from; with a look at them. */
import { computed, reactive, ref, watch } from "vue";

import { api, type Clip, type ClipDetail, take } from "@/api/client";
import { count } from "@/parts/format";
import { useTurns } from "@/parts/inTurn";
import { complain, say, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";
import { choiceOf, putChoice } from "@/views/clips/choice";

const shown = defineModel<boolean>({ required: true });
const props = defineProps<{
  clip: Clip;
  /** Labelled objects, whose boxes come along. */
  objects: number;
  /** How it is to be labelled where nobody chose yet. */
  as?: "objects" | "pictures";
  /** What has to be saved first. */
  before?: () => Promise<unknown>;
}>();
const emit = defineEmits<{ chosen: []; started: []; gathered: [] }>();
const store = useProject();

const MOST_SHOWN = 60;

const order = reactive({
  as: "objects" as "objects" | "pictures",
  by: "rate" as "rate" | "differing" | "all",
  rate: 2,
  differing: 10,
  first: 0,
  last: 0,
});
const finished = ref(false);
const detail = ref<ClipDetail | null>(null);
const frames = ref<number[] | null>(null);
const looking = ref(false);
const gathering = ref(0);
let asked = 0;

const total = computed(() => detail.value?.times.length ?? 0);
const body = computed(() => ({
  per_second: order.by === "rate" ? order.rate : null,
  differing: order.by === "differing" ? order.differing / 100 : null,
  first: order.first,
  last: order.last,
}));
/** Of very many frames some are shown, from begin to end. */
const some = computed(() => {
  const all = frames.value ?? [];
  const step = Math.max(1, all.length / MOST_SHOWN);
  return Array.from({ length: Math.min(all.length, MOST_SHOWN) }, (_, place) => all[Math.floor(place * step)]!);
});
const turns = useTurns(some);
const path = computed(() => ({ path: { clip_id: props.clip.id } }));

watch(
  shown,
  async (open) => {
    if (!open) return;
    try {
      const found = await take(api.GET("/api/v1/clips/{clip_id}", { params: path.value }));
      const { labelled_as: as, per_second: rate, differing } = found;
      Object.assign(order, {
        as: as ?? props.as ?? "objects",
        by: !as || rate ? "rate" : differing ? "differing" : "all",
        rate: rate ?? 2,
        differing: differing ? Math.round(100 * differing) : 10,
        first: found.first,
        last: found.last ?? found.times.length - 1,
      });
      detail.value = found;
      await plan();
    } catch (error) {
      complain(error);
    }
  },
  { immediate: true },
);
let timer = 0;
watch([() => ({ ...body.value })], () => {
  window.clearTimeout(timer);
  timer = window.setTimeout(() => shown.value && total.value && void plan(), 300);
});

async function plan(): Promise<void> {
  const mine = ++asked;
  looking.value = true;
  const plans = { ...body.value, finished: false };
  try {
    const asking = take(api.POST("/api/v1/clips/{clip_id}/plans", { params: path.value, body: plans }));
    const { outcome } = await store.outcomeOf("plan_frames", asking);
    if (mine === asked) frames.value = outcome.frames;
  } catch (error) {
    if (mine === asked) complain(error);
  } finally {
    if (mine === asked) looking.value = false;
  }
}

/** Keep what is chosen here, beside the clip. */
async function keep(): Promise<void> {
  await putChoice(props.clip.id, { labelled_as: order.as, ...body.value });
  emit("chosen");
}
async function keepOnly(): Promise<void> {
  const was = detail.value && choiceOf(detail.value);
  try {
    await keep();
    const words = `${props.clip.name} is labelled as ${order.as}`;
    if (was) {
      sayWithUndo(words, async () => {
        await putChoice(props.clip.id, was);
        emit("chosen");
      });
    } else say(words);
    shown.value = false;
  } catch (error) {
    complain(error);
  }
}

async function start(): Promise<void> {
  try {
    await props.before?.();
    await keep();
    const wanted = { ...body.value, finished: finished.value && props.objects > 0 };
    await take(api.POST("/api/v1/clips/{clip_id}/frames", { params: path.value, body: wanted }));
    say(`Frames of ${props.clip.name} are being taken; it goes on if you leave`);
    emit("started");
    shown.value = false;
  } catch (error) {
    complain(error);
  }
}

/** Boxes that were drawn on its pictures become objects. */
async function gather(): Promise<void> {
  try {
    await props.before?.();
    const asking = take(api.POST("/api/v1/clips/{clip_id}/gathered", { params: path.value }));
    const { outcome } = await store.outcomeOf("gather_tracks", asking, (job) => (gathering.value = job.id));
    const words = `${count(outcome.tracks, "object")} made of ${count(outcome.boxes, "box", "boxes")}`;
    const change = outcome.change_id;
    if (change) sayWithUndo(words, () => store.undoChange(change).then(() => emit("gathered")));
    else say(`${words}; ${outcome.known} are objects already`);
    order.as = "objects";
    emit("gathered");
    shown.value = false;
  } catch (error) {
    complain(error);
  } finally {
    gathering.value = 0;
  }
}
const gatherer = computed(() => store.jobs.get(gathering.value));
</script>

<template>
  <el-dialog v-model="shown" :title="`How ${clip.name} is labelled`" width="720" top="5vh">
    <form
      class="body"
      novalidate
      data-test="frames-form"
      @submit.prevent="order.as === 'pictures' ? start() : keepOnly()">
      <el-radio-group v-model="order.as" class="ways">
        <el-radio value="objects" data-test="as-objects"
          ><b>As objects that move</b> <span class="soft">a box on few frames, followed over the others</span></el-radio
        >
        <el-radio value="pictures" data-test="as-pictures"
          ><b>As single pictures</b> <span class="soft">frames that are labelled one by one</span></el-radio
        >
      </el-radio-group>
      <div v-if="detail?.pictures && order.as === 'objects'" class="line">
        <template v-if="gathering">
          <el-progress
            class="bar"
            :percentage="Math.floor((100 * (gatherer?.done ?? 0)) / Math.max(1, gatherer?.total ?? 1))"
            :stroke-width="6" />
          <el-button size="small" @click="store.stop(gathering)">Stop</el-button>
        </template>
        <template v-else>
          <span class="soft"
            >{{ count(detail.pictures, "frame") }} of it already
            {{ detail.pictures === 1 ? "is a picture" : "are pictures" }}.</span
          >
          <el-button link type="primary" data-test="gather" @click="gather">Make objects of their boxes</el-button>
        </template>
      </div>
      <div class="line">
        <label>From frame <el-input-number v-model="order.first" :min="0" :max="order.last" size="small" /></label>
        <label
          >to
          <el-input-number
            v-model="order.last"
            :min="order.first"
            :max="Math.max(0, total - 1)"
            size="small"
            data-test="to-frame"
        /></label>
        <span class="soft">the rest of the clip counts for nothing</span>
      </div>
      <h3>{{ order.as === "objects" ? "Frames to learn from" : "Frames to label" }}</h3>
      <el-radio-group v-model="order.by">
        <el-radio value="rate">So many a second</el-radio>
        <el-radio value="differing" data-test="by-differing">Those that differ</el-radio>
        <el-radio value="all" data-test="by-all">Every frame</el-radio>
      </el-radio-group>
      <div v-if="order.by !== 'all'" class="line">
        <label v-if="order.by === 'rate'"
          >Frames a second <el-input-number v-model="order.rate" :min="0.1" :max="60" :step="0.5" size="small"
        /></label>
        <label v-else
          >At least <el-input-number v-model="order.differing" :min="1" :max="100" :step="5" size="small" /> % of the
          picture changed since the last one</label
        >
      </div>
      <p data-test="planned" role="status">
        <b v-if="frames">{{ count(frames.length, "frame") }}</b> {{ frames ? `of ${total}` : "" }}
        <span v-if="looking" class="soft">looking at the clip</span>
        <span v-if="frames && some.length < frames.length" class="soft">; {{ some.length }} of them shown</span>
      </p>
      <div class="strip">
        <figure v-for="(each, place) in some" :key="`${turns.round.value} ${each}`">
          <img
            :src="turns.may(place) ? `/api/v1/clips/${clip.id}/frames/${each}?width=160` : undefined"
            :alt="`Frame ${each}`"
            @load="turns.next"
            @error="turns.next" />
          <figcaption>{{ each }}</figcaption>
        </figure>
      </div>
      <el-checkbox v-if="objects" v-model="finished" data-test="finished"
        >All objects on these frames are labelled: the pictures are done</el-checkbox
      >
      <p class="soft">
        <template v-if="order.as === 'objects'"
          >A snapshot takes just these frames, with the boxes of the objects; nearly equal ones would flood the
          training.</template
        >
        <template v-if="objects">Pictures that were labelled by themselves keep their boxes.</template>
        Frames are kept exactly as they are, and all of a clip stay in one part of the split.
      </p>
    </form>
    <template #footer>
      <el-button @click="shown = false">Close</el-button>
      <el-button
        :type="order.as === 'objects' ? 'primary' : undefined"
        :disabled="!detail"
        data-test="keep-choice"
        @click="keepOnly"
        >Keep this choice</el-button
      >
      <el-button
        :type="order.as === 'pictures' ? 'primary' : undefined"
        :disabled="!frames?.length"
        data-test="sample"
        @click="start"
        >Take frames as pictures</el-button
      >
    </template>
  </el-dialog>
</template>

<style scoped>
.body {
  display: grid;
  gap: 10px;
}
.ways {
  display: grid;
  gap: 2px;
}
.bar {
  width: 300px;
}
.line {
  display: flex;
  align-items: center;
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
