<script setup lang="ts">
/** Kinds of error: each kind of error, how often, and what mending it alone would bring. */
import { computed, ref, watch } from "vue";

import { api, type MistakeKind, type MistakenBox, take } from "@/api/client";
import { count } from "@/parts/format";
import { complain } from "@/state/notes";
import BoxCrops from "@/views/judge/figures/BoxCrops.vue";
import { latestOnly } from "@/views/judge/figures/thresholds";

const props = defineProps<{
  evaluationId: number;
  minimumScore: number;
  overlapLimit: number;
  query: Record<string, string>;
}>();
const kinds = ref<MistakeKind[]>([]);
const open = ref<number | null>(null);
const boxes = ref<MistakenBox[]>([]);
const total = ref(0);
const said: Record<string, string> = {
  "wrong class": "on a truth, but of another class",
  "too large": "the right class, but a box too large to count",
  "too small": "the right class, but a box too small to count",
  shifted: "the right class and size, but too far off to count",
  "wrong class and place": "another class, and too far off to count",
  duplicate: "a truth that is found already, found once more",
  background: "no truth anywhere near",
  "no candidate": "a truth that nothing points at",
  "under the minimum score": "a truth whose every candidate scores too little",
  suppressed: "a truth whose candidate another box suppressed",
};
const most = computed(() => Math.max(0.001, ...kinds.value.map((kind) => kind.gain ?? 0)));
const made = computed(() => kinds.value.filter((kind) => kind.count));
const none = computed(() => kinds.value.filter((kind) => !kind.count).map((kind) => kind.name));
const first = computed(() =>
  kinds.value.reduce<MistakeKind | null>((best, kind) => ((kind.gain ?? 0) > (best?.gain ?? 0) ? kind : best), null),
);

const asked = computed(() => ({ minimum_score: props.minimumScore, overlap_limit: props.overlapLimit }));
const path = computed(() => ({ evaluation_id: props.evaluationId }));
const load = latestOnly(async () => {
  try {
    kinds.value = (
      await take(
        api.GET("/api/v1/evaluations/{evaluation_id}/mistakes", { params: { path: path.value, query: asked.value } }),
      )
    ).kinds;
    if (open.value !== null) await show(open.value);
  } catch (error) {
    complain(error);
  }
});
watch(asked, load, { immediate: true, deep: true });

async function show(kind: number): Promise<void> {
  open.value = kind;
  try {
    const found = await take(
      api.GET("/api/v1/evaluations/{evaluation_id}/mistakes/boxes", {
        params: { path: path.value, query: { ...asked.value, kind } },
      }),
    );
    boxes.value = found.boxes;
    total.value = found.total;
  } catch (error) {
    complain(error);
  }
}
function caption(box: MistakenBox): string {
  const names =
    box.predicted && box.true && box.predicted !== box.true
      ? `${box.predicted}, is ${box.true}`
      : (box.predicted ?? box.true ?? "");
  return `${names}${box.score === null ? "" : ` ${box.score.toFixed(2)}`}${box.overlap > 0 ? `, IoU ${box.overlap.toFixed(2)}` : ""}`;
}
const shown = computed(() => boxes.value.map((box) => ({ ...box, caption: caption(box) })));
</script>

<template>
  <section class="mistakes" data-test="mistakes">
    <div>
      <h2>Kinds of error</h2>
      <p v-if="first?.gain" class="lead">
        Mending <b>{{ first.name }}</b> would bring the most: {{ first.gain.toFixed(3) }} mAP at 0.5.
      </p>
      <p v-else-if="kinds.length" class="lead">There is no kind of error whose mending would raise mAP at 0.5.</p>
      <table class="figures">
        <thead>
          <tr>
            <th>Kind of error</th>
            <th class="number">How many</th>
            <th colspan="2">mAP at 0.5 that mending it brings</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="kind in made" :key="kind.name" :class="{ open: open === kind.number }" data-test="mistake-row">
            <td>
              <b>{{ kind.name }}</b><br /><small class="soft">{{ said[kind.name] }}</small>
            </td>
            <td class="number">
              <button
                type="button"
                :disabled="!kind.count"
                :aria-label="`Show ${kind.count} ${kind.name}`"
                @click="show(kind.number)">
                {{ kind.count }}
              </button>
            </td>
            <td class="number">{{ kind.gain === null ? "–" : `+${Math.max(0, kind.gain).toFixed(3)}` }}</td>
            <td class="bar"><i :style="{ width: `${(100 * Math.max(0, kind.gain ?? 0)) / most}%` }" /></td>
          </tr>
        </tbody>
      </table>
      <p v-if="none.length" class="soft note" data-test="mistakes-none">None: {{ none.join(", ") }}.</p>
      <p class="soft note">
        Counts and gains speak of the same boxes, those above the minimum score. A hit needs IoU 0.5; under 0.1 it is
        background.
      </p>
    </div>
    <div class="behind">
      <p v-if="open === null" class="soft">Click a number to see the boxes.</p>
      <template v-else>
        <p>
          <b>{{ count(total, "box", "boxes") }}</b>: {{ kinds.find((kind) => kind.number === open)?.name
          }}{{ total > boxes.length ? `; the first ${boxes.length}` : "" }}
        </p>
        <BoxCrops :evaluation-id="evaluationId" :boxes="shown" :query="query" />
      </template>
    </div>
  </section>
</template>

<style scoped>
.mistakes {
  display: grid;
  grid-template-columns: 560px minmax(0, 1fr);
  gap: 30px;
  align-items: start;
}
.lead {
  margin: 4px 0 8px;
}
td {
  padding-top: 4px;
  padding-bottom: 4px;
}
tr.open td {
  background: var(--leg-pale);
}
.bar {
  width: 150px;
}
.bar i {
  display: block;
  height: 12px;
  background: var(--brick);
  min-width: 1px;
}
button {
  border: 1px solid var(--sand);
  border-radius: 3px;
  background: #fffefa;
  padding: 1px 9px;
  font: inherit;
  color: inherit;
  cursor: pointer;
}
button:disabled {
  border-color: transparent;
  background: none;
  cursor: default;
  color: var(--ink-soft);
}
.note {
  font-size: 13px;
  margin-top: 8px;
}
</style>
