<script setup lang="ts">
/** Labels that the model gives reason to doubt: accept what it says, call the label right, or open it. */
import { computed, onMounted, ref } from "vue";

import { api, type Doubt, take } from "@/api/client";
import { count } from "@/parts/format";
import BoxOutline from "@/stage/BoxOutline.vue";
import { both, squareAround } from "@/stage/crop";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";

const props = defineProps<{ evaluationId: number; overlapLimit: number }>();
const store = useProject();
const colour = (name: string | null): string => store.classes.find((each) => each.name === name)?.colour ?? "#A9B8C9";
const doubts = ref<Doubt[]>([]);
const total = ref(0);
const refused = ref("");
const loaded = ref(false);
const onlyOpen = ref(true);
const at = ref(0);
const shown = computed(() => doubts.value.filter((doubt) => !onlyOpen.value || doubt.state === "open"));
const current = computed(() => shown.value[Math.min(at.value, shown.value.length - 1)]);
const request = computed(() => ({
  path: { evaluation_id: props.evaluationId },
  query: { overlap_limit: props.overlapLimit },
}));

async function load(): Promise<void> {
  try {
    const found = await take(api.GET("/api/v1/evaluations/{evaluation_id}/doubts", { params: request.value }));
    doubts.value = found.doubts;
    total.value = found.total;
    refused.value = "";
  } catch (error) {
    refused.value = wordsOf(error);
  } finally {
    loaded.value = true;
  }
}
onMounted(load);

async function accept(doubt: Doubt | undefined): Promise<void> {
  if (doubt?.state !== "open") return;
  try {
    const done = await take(
      api.POST("/api/v1/evaluations/{evaluation_id}/doubts/{number}/accept", {
        params: { ...request.value, path: { ...request.value.path, number: doubt.number } },
      }),
    );
    await load();
    sayWithUndo(done.title, async () => {
      await store.undoChange(done.change_id);
      await load();
    });
  } catch (error) {
    complain(error);
  }
}
async function setFine(doubt: Doubt | undefined, fine: boolean): Promise<void> {
  if (!doubt || (fine && doubt.state !== "open")) return;
  try {
    const params = { ...request.value, path: { ...request.value.path, number: doubt.number } };
    const found = await take(
      api.PUT("/api/v1/evaluations/{evaluation_id}/doubts/{number}/fine", { params, body: { fine } }),
    );
    doubts.value = found.doubts;
    if (fine) sayWithUndo(`${doubt.name}: the label is right`, () => setFine(doubt, false));
  } catch (error) {
    complain(error);
  }
}
useKeys([
  { keys: ["."], label: "Next doubtful label", run: () => (at.value = Math.min(shown.value.length - 1, at.value + 1)) },
  { keys: [","], label: "Previous doubtful label", run: () => (at.value = Math.max(0, at.value - 1)) },
  { keys: ["k"], label: "Accept what the model says", run: () => accept(current.value) },
  { keys: ["f"], label: "Fine: the label is right", run: () => setFine(current.value, true) },
]);

function words(doubt: Doubt): string {
  if (doubt.kind === "unlabelled") return `A ${doubt.predicted} may be missing from the labels`;
  if (doubt.kind === "other class") return `Labelled ${doubt.labelled}, looks like a ${doubt.predicted}`;
  if (doubt.kind === "badly placed") return `The box of this ${doubt.labelled} may lie wrong`;
  return `Labelled ${doubt.labelled}, but the model sees nothing`;
}
const action: Record<Doubt["kind"], string> = {
  unlabelled: "Add the box",
  "other class": "Change the class",
  "badly placed": "Move the box",
  background: "Delete the box",
};
const states: Record<Doubt["state"], string> = {
  open: "",
  mended: "mended",
  fine: "label is right",
  gone: "picture is gone",
};
/** What is looked at: both boxes and a little around them. */
function frame({ label, prediction }: Doubt): number[] {
  const one = (label ?? prediction)!;
  return squareAround(both(one, prediction ?? one));
}
</script>

<template>
  <section data-test="doubts">
    <header>
      <h2>Doubtful labels</h2>
      <el-checkbox v-model="onlyOpen" size="small">Only open ones</el-checkbox>
      <span v-if="loaded && !refused" class="soft"
        >{{ count(total, "label") }} where model and labels disagree, likeliest mistake first. <kbd>K</kbd> accepts,
        <kbd>F</kbd> keeps the label.</span
      >
    </header>
    <p v-if="refused" class="notice">{{ refused }}</p>
    <p v-else-if="loaded && !shown.length" class="soft">
      {{ total ? "All of them were looked at." : "Model and labels agree everywhere." }}
    </p>
    <ol v-else>
      <li
        v-for="(doubt, index) in shown"
        :key="doubt.number"
        :class="{ here: doubt === current }"
        data-test="doubt"
        @click="at = index">
        <svg :viewBox="frame(doubt).join(' ')" role="img" :aria-label="words(doubt)">
          <image :href="`/api/v1/evaluations/${evaluationId}/pictures/${doubt.picture_id}/file`" />
          <BoxOutline v-if="doubt.label" :corners="doubt.label" truth />
          <BoxOutline v-if="doubt.prediction" :corners="doubt.prediction" :colour="colour(doubt.predicted)" />
        </svg>
        <div class="text">
          <b>{{ words(doubt) }}</b>
          <span class="soft"
            >{{ doubt.name }}<template v-if="doubt.score !== null">, score {{ doubt.score.toFixed(2) }}</template
            >, doubt {{ doubt.likelihood.toFixed(2) }}</span
          >
          <span v-if="doubt.state === 'open'" class="acts">
            <el-button
              size="small"
              :type="doubt.kind === 'background' ? 'default' : 'primary'"
              data-test="accept-doubt"
              @click.stop="accept(doubt)"
              >{{ action[doubt.kind] }}</el-button
            >
            <el-button size="small" data-test="fine-doubt" @click.stop="setFine(doubt, true)"
              >The label is right</el-button
            >
            <router-link
              :to="{ path: `/project/${store.id}/collect/${doubt.picture_id}`, query: { box: doubt.label?.join() } }"
              >Open to label</router-link
            >
          </span>
          <span v-else class="good"
            >{{ states[doubt.state] }}
            <el-button
              v-if="doubt.state === 'fine'"
              link
              type="primary"
              size="small"
              @click.stop="setFine(doubt, false)"
              >Undo</el-button
            ></span
          >
        </div>
      </li>
    </ol>
    <p class="soft note">
      Labels in broken lines, predictions in full ones. What is changed here changes the labels of today; this
      measurement keeps the labels it was made with. Doubt, from 0 to 1, weighs how sure the model is against how often
      it is wrong about that class.
    </p>
  </section>
</template>

<style scoped>
header {
  display: flex;
  gap: 18px;
  align-items: center;
  margin-bottom: 10px;
}
ol {
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(380px, 1fr));
  gap: 10px 22px;
}
li {
  display: grid;
  grid-template-columns: 112px minmax(0, 1fr);
  gap: 12px;
  padding: 6px;
  border-left: 3px solid transparent;
  cursor: pointer;
}
li.here {
  border-left-color: var(--leg);
  background: var(--leg-pale);
}
svg {
  width: 112px;
  height: 112px;
  background: var(--stage);
  display: block;
}
.text {
  display: grid;
  gap: 3px;
  align-content: start;
  font-size: 14px;
}
.acts {
  display: flex;
  gap: 6px 10px;
  align-items: center;
  flex-wrap: wrap;
}
.acts .el-button + .el-button {
  margin-left: 0;
}
.note {
  font-size: 13px;
  margin-top: 12px;
}
</style>
