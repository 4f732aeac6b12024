<script setup lang="ts">
/** Beside the stage: classes, the selected object, what waits to be looked at, what a model proposes. */
import { computed } from "vue";

import type { TrackList } from "@/api/client";
import TimeSaved from "@/parts/TimeSaved.vue";
import ClassRows from "@/parts/classes/ClassRows.vue";
import { count, whole } from "@/parts/format";
import { useProject } from "@/state/project";
import AttributeFields from "@/views/labels/AttributeFields.vue";
import { attributesAt, isInSight, setAt, sightLength, type Track } from "@/views/clips/editing/trajectory";

const props = defineProps<{
  frame: number;
  tracks: readonly Track[];
  proposed: readonly Track[];
  refused: number;
  selected: readonly Track[];
  activeClass: number | null;
  unsure: number;
  labour: Pick<TrackList, "time" | "timed">;
  following: { done: number; total: number } | null;
}>();
const forAll = defineModel<boolean>("forAll", { required: true });
const emit = defineEmits<{
  class: [id: number];
  findClass: [];
  follow: [back: boolean];
  stop: [];
  set: [];
  unset: [];
  hold: [];
  begin: [];
  end: [];
  hide: [];
  show: [];
  part: [];
  join: [];
  remove: [];
  unsure: [];
  propose: [];
  keep: [all: boolean];
  refuse: [all: boolean];
  restore: [];
  attribute: [name: string, value: unknown];
}>();
const store = useProject();

const ORIGINS: Record<string, string> = { hand: "by hand", carried: "followed" };
const last = computed(() => props.selected.at(-1));
const here = computed(() => {
  const found = new Map<number, number>();
  for (const each of props.tracks)
    if (isInSight(each, props.frame)) found.set(each.class_id, (found.get(each.class_id) ?? 0) + 1);
  return found;
});
/** How much of the labelling was done by hand. */
const work = computed(() => {
  const frames = props.tracks.reduce((sum, each) => sum + sightLength(each), 0);
  const hand = props.tracks.reduce((sum, each) => sum + each.sets.filter((set) => set.origin === "hand").length, 0);
  const helped = props.tracks.filter((each) => each.model);
  const corrected = helped.filter((each) => each.sets.some((set) => set.origin === "hand")).length;
  return {
    frames,
    hand,
    share: frames ? (100 * hand) / frames : 0,
    helped: helped.length,
    kept: helped.length - corrected,
    corrected,
    drawn: props.tracks.length - helped.length,
  };
});
const values = computed(() => (last.value ? attributesAt(last.value, props.frame) : {}));
const origins = computed(() => {
  const counts = new Map<string, number>();
  for (const each of last.value?.sets ?? []) counts.set(each.origin, (counts.get(each.origin) ?? 0) + 1);
  return [...counts].map(([name, number]) => `${number} ${ORIGINS[name] ?? name}`).join(", ");
});
const sights = computed(() => (last.value?.spans ?? []).map(([a, b]) => (a === b ? `${a}` : `${a}–${b}`)).join(", "));
const seen = computed(() => Boolean(last.value && isInSight(last.value, props.frame)));
const set = computed(() => last.value && setAt(last.value, props.frame));
const percent = computed(() =>
  props.following ? Math.floor((100 * props.following.done) / Math.max(1, props.following.total)) : 0,
);
</script>

<template>
  <aside class="panel">
    <section class="classes">
      <h3>
        Classes
        <el-button v-hint="'Find a class by its name'" link size="small" @click="emit('findClass')">Find</el-button>
      </h3>
      <ClassRows :active="activeClass" :counts="here" @class="emit('class', $event)" />
    </section>
    <section v-if="following" class="following" data-test="following" role="status">
      <p>Following: {{ following.done }} of {{ following.total }} frames</p>
      <el-progress :percentage="percent" :stroke-width="6" :show-text="false" />
      <el-button size="small" data-test="stop-following" @click="emit('stop')"
        >That is far enough <kbd>Esc</kbd></el-button
      >
    </section>
    <section v-if="last" class="object" data-test="object">
      <h3>
        <span>{{ store.classById.get(last.class_id)?.name }} {{ last.number }}</span>
        <span v-if="selected.length > 1" class="soft more">and {{ selected.length - 1 }} more</span>
      </h3>
      <template v-if="last.standing === 'proposed'">
        <p class="soft">Proposed by {{ last.model }}</p>
        <div class="pair">
          <el-button size="small" type="primary" data-test="keep" @click="emit('keep', false)"
            >Keep <kbd>→</kbd></el-button
          >
          <el-button size="small" data-test="refuse" @click="emit('refuse', false)">Refuse <kbd>←</kbd></el-button>
        </div>
      </template>
      <template v-else>
        <div class="pair">
          <el-button
            v-hint="'Follow the selected objects on'"
            size="small"
            type="primary"
            :disabled="Boolean(following)"
            data-test="follow"
            @click="emit('follow', false)"
            >Follow on</el-button
          >
          <el-button
            v-hint="'Follow them back'"
            size="small"
            :disabled="Boolean(following)"
            data-test="follow-back"
            @click="emit('follow', true)"
            >Follow back</el-button
          >
        </div>
        <dl>
          <dt>In sight</dt>
          <dd data-test="sights">{{ sights }}</dd>
          <dt>Set boxes</dt>
          <dd data-test="origins">{{ origins }}</dd>
        </dl>
        <div class="pair">
          <el-button v-if="set" v-hint="'Take the set box of this frame away'" size="small" @click="emit('unset')"
            >Unset here</el-button
          >
          <el-button v-else v-hint="'Set the box here as it is'" size="small" data-test="set" @click="emit('set')"
            >Set here</el-button
          >
          <el-button
            v-if="seen"
            v-hint="'Out of sight from here, until its next set box'"
            size="small"
            data-test="hide"
            @click="emit('hide')"
            >Out of sight</el-button
          >
          <el-button v-else v-hint="'Back in sight from here'" size="small" data-test="show" @click="emit('show')"
            >Back in sight</el-button
          >
          <el-button v-hint="'In sight from here'" size="small" data-test="begin" @click="emit('begin')"
            >Begins here</el-button
          >
          <el-button v-hint="'In sight until here'" size="small" data-test="end" @click="emit('end')"
            >Ends here</el-button
          >
          <el-button v-hint="'Part the object in two here'" size="small" data-test="part" @click="emit('part')"
            >Part here</el-button
          >
          <el-button
            v-hint="'Join the two selected objects'"
            size="small"
            :disabled="selected.length !== 2"
            data-test="join"
            @click="emit('join')"
            >Join</el-button
          >
          <el-button
            v-hint="'Delete the selected objects whole'"
            size="small"
            data-test="remove-object"
            @click="emit('remove')"
            >Delete</el-button
          >
          <el-checkbox
            v-if="set"
            v-hint="'Let it stay as it is until the next set box'"
            size="small"
            :model-value="set.held"
            @change="emit('hold')"
            >Stays</el-checkbox
          >
        </div>
        <AttributeFields
          :class-id="last.class_id"
          :values="values"
          @attribute="(name, value) => emit('attribute', name, value)" />
        <el-radio-group v-if="store.attributes.length" v-model="forAll" size="small" class="whole">
          <el-radio :value="true">for all of it</el-radio>
          <el-radio :value="false" data-test="from-here">from here on</el-radio>
        </el-radio-group>
      </template>
    </section>
    <section v-if="unsure" class="look">
      <el-button
        v-hint="'Least sure places, one after the other'"
        size="small"
        data-test="unsure"
        @click="emit('unsure')"
        >{{ count(unsure, "place") }} to look at <kbd>Shift</kbd> <kbd>U</kbd></el-button
      >
    </section>
    <section class="proposals">
      <template v-if="proposed.length">
        <p data-test="proposed">{{ count(proposed.length, "object") }} proposed</p>
        <div class="pair">
          <el-button size="small" data-test="keep-all" @click="emit('keep', true)">Keep all</el-button>
          <el-button size="small" data-test="refuse-all" @click="emit('refuse', true)">Refuse all</el-button>
        </div>
      </template>
      <el-button
        v-if="refused"
        v-hint="'Restore what was refused'"
        link
        size="small"
        data-test="restore-refused"
        @click="emit('restore')"
        >Restore {{ count(refused, "refused one") }}</el-button
      >
      <el-button v-hint="'Let a model propose objects'" size="small" data-test="propose-tracks" @click="emit('propose')"
        >Let a model propose</el-button
      >
    </section>
    <section class="figures" data-test="labour">
      <p>
        <b>{{ count(tracks.length, "object") }}</b><template v-if="work.frames">
          on {{ whole(work.frames) }} object-frames; boxes set by hand on
          <b>{{ work.share < 10 ? work.share.toFixed(1) : Math.round(work.share) }} %</b> of them ({{
            whole(work.hand)
          }})</template
        >
      </p>
      <template v-if="work.helped">
        <p data-test="labour-helped">
          {{ work.kept }} kept as proposed, {{ work.corrected }} corrected, {{ work.drawn }} drawn by hand
        </p>
        <TimeSaved
          :time="labour.time"
          :timed="labour.timed"
          of="an object"
          by="object"
          needs="5 objects were drawn by hand on clips of this project, and a proposed one was looked at" />
      </template>
    </section>
  </aside>
</template>

<style scoped>
.panel {
  border-left: 1px solid var(--rule);
  display: flex;
  flex-direction: column;
  min-height: 0;
  overflow: auto;
}
section {
  padding: 10px 12px;
  border-bottom: 1px solid var(--rule);
  display: grid;
  gap: 6px;
}
h3 {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
}
h3 :deep(.el-button),
.more {
  font: 400 14px/1 var(--sans);
}
.classes {
  gap: 0;
  flex: none;
  max-height: 34%;
  overflow: auto;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 6px;
}
section :deep(.el-button) {
  margin: 0;
  width: 100%;
}
section :deep(.el-button kbd) {
  margin-left: 5px;
}
section h3 :deep(.el-button) {
  width: auto;
}
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 2px 10px;
  margin: 0;
  font-size: 14px;
}
dt {
  color: var(--ink-soft);
}
dd {
  margin: 0;
  text-align: right;
}
.whole :deep(.el-radio) {
  margin-right: 12px;
  height: 22px;
}
.figures {
  font-size: 14px;
  border-bottom: 0;
}
</style>
