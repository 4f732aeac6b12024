<script setup lang="ts">
/** Which model answers, what counts, and which ones answered before. */
import { computed, ref, watch } from "vue";

import { api, type Address, type Ensemble, type Run, take } from "@/api/client";
import { day } from "@/parts/format";
import { complain, say, sayWithUndo } from "@/state/notes";
import ModelSelect from "@/views/use/ModelSelect.vue";
import { numbersOf, ownScore } from "@/views/use/models";

const props = defineProps<{ address: Address; runs: Run[]; ensembles: Ensemble[] }>();
const emit = defineEmits<{ changed: [] }>();
const model = ref("");
const own = ref(true);
const score = ref(0.5);

const now = computed(() => props.address.models.at(-1));
const before = computed(() => [...props.address.models].reverse().slice(1));
watch(
  () => props.address,
  (address) => {
    const kept = address.order.minimum_score as number | undefined;
    own.value = kept === undefined;
    score.value = kept ?? ownScore(props.runs.find((each) => each.id === now.value?.run_id));
  },
  { immediate: true },
);

async function answerWith(): Promise<void> {
  if (!model.value) return;
  const former = now.value;
  try {
    const params = { path: { address_id: props.address.id } };
    const body = numbersOf(model.value);
    const made = await take(api.POST("/api/v1/addresses/{address_id}/models", { params, body }));
    model.value = "";
    emit("changed");
    if (former) sayWithUndo(`${made.models.at(-1)?.name} answers now`, () => backTo(former.id));
  } catch (error) {
    complain(error);
  }
}
async function backTo(id: number): Promise<void> {
  try {
    const params = { path: { address_id: props.address.id, model_id: id } };
    const made = await take(api.POST("/api/v1/addresses/{address_id}/models/{model_id}/back", { params }));
    emit("changed");
    say(`${made.models.at(-1)?.name} answers again`);
  } catch (error) {
    complain(error);
  }
}
async function save(): Promise<void> {
  const order = props.address.order as { overlap_limit?: number; only?: string[]; white?: number };
  try {
    const params = { path: { address_id: props.address.id } };
    const body = {
      minimum_score: own.value ? null : score.value,
      overlap_limit: order.overlap_limit ?? 0.5,
      only: order.only ?? [],
      white: order.white ?? null,
      keep_share: props.address.keep_share,
    };
    await take(api.PATCH("/api/v1/addresses/{address_id}", { params, body }));
    emit("changed");
  } catch (error) {
    complain(error);
  }
}
</script>

<template>
  <section>
    <h3>Answers with {{ now?.name }}</h3>
    <p class="soft">since {{ now ? day(now.since) : "" }}</p>
    <p class="line">
      <ModelSelect
        v-model="model"
        :runs="runs"
        :ensembles="ensembles"
        label="Answer with"
        placeholder="Another model"
        size="small"
        data-test="answer-with" />
      <el-button size="small" :disabled="!model" data-test="answer-now" @click="answerWith">Answer with it</el-button>
    </p>
    <p class="line">
      <el-checkbox v-model="own" size="small" @change="save">Minimum score of the model</el-checkbox>
      <el-input-number
        v-if="!own"
        v-model="score"
        size="small"
        :min="0"
        :max="1"
        :step="0.05"
        aria-label="Minimum score"
        @change="save" />
    </p>
    <details v-if="before.length">
      <summary>Before: {{ before.length }}</summary>
      <p v-for="each in before" :key="each.id" data-test="model-before">
        {{ each.name }} <span class="soft">from {{ day(each.since) }}</span>
        <el-button
          v-if="each.run_id !== null || each.ensemble_id !== null"
          link
          type="primary"
          size="small"
          data-test="back-to"
          @click="backTo(each.id)"
          >Back to it</el-button
        >
        <span v-else class="soft">, not there any more</span>
      </p>
    </details>
  </section>
</template>

<style scoped>
section {
  display: grid;
  gap: 6px;
  margin-bottom: 20px;
}
.line {
  display: flex;
  gap: 8px;
  align-items: center;
}
</style>
