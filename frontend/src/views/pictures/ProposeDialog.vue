<script setup lang="ts">
/** A model proposes boxes for the pictures that nobody has labelled; and what that was worth so far. */
import { computed, ref, watch } from "vue";

import { api, type Proposed, take } from "@/api/client";
import { count, whole } from "@/parts/format";
import TimeSaved from "@/parts/TimeSaved.vue";
import { complain, say } from "@/state/notes";
import { useProject } from "@/state/project";
import ProposingModel, { type ProposingChoice } from "@/views/models/ProposingModel.vue";

const shown = defineModel<boolean>({ required: true });
const emit = defineEmits<{ proposed: [] }>();
const store = useProject();

const now = ref<Proposed | null>(null);
const choice = ref<ProposingChoice | null>(null);
const busy = ref(false);

const labour = computed(() => {
  const found = now.value?.labour;
  if (!found?.pictures) return null;
  const boxes = found.kept + found.corrected + found.by_hand;
  return { ...found, boxes, share: boxes ? Math.round((100 * found.kept) / boxes) : 0 };
});

async function load(): Promise<void> {
  const params = { path: { project_id: store.id } };
  try {
    now.value = await take(api.GET("/api/v1/projects/{project_id}/proposals", { params }));
  } catch (error) {
    complain(error);
  }
}
watch(shown, (open) => open && void load(), { immediate: true });

async function propose(): Promise<void> {
  const body = choice.value;
  if (!body) return;
  busy.value = true;
  try {
    const { outcome } = await store.outcomeOf("propose", take(api.POST("/api/v1/proposals", { body })));
    say(
      outcome.looked_at
        ? `${count(outcome.boxes, "box", "boxes")} proposed on ${count(outcome.pictures, "picture")}`
        : "This model has proposed for all of them already",
    );
    emit("proposed");
    shown.value = false;
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <el-dialog v-model="shown" title="Let a model propose boxes" width="480">
    <div v-if="now" class="body" data-test="propose">
      <ProposingModel v-if="shown" v-model="choice">
        <p class="soft">
          For {{ count(now.unlabelled, "unlabelled picture") }}. You keep or refuse each box on its picture; nothing is
          labelled by itself.
          <template v-if="now.proposals"
            >{{ whole(now.proposals) }} proposals wait on {{ count(now.pictures, "picture") }}.</template
          >
        </p>
      </ProposingModel>
      <section v-if="labour" data-test="labour">
        <h3>So far</h3>
        <p>
          <b class="big">{{ labour.share }} %</b> of {{ count(labour.boxes, "box", "boxes") }} on
          {{ count(labour.pictures, "picture was", "pictures were") }} kept as proposed
        </p>
        <table class="figures">
          <tbody>
            <tr>
              <td>Kept as they were</td>
              <td class="number">{{ whole(labour.kept) }}</td>
            </tr>
            <tr>
              <td>Corrected</td>
              <td class="number">{{ whole(labour.corrected) }}</td>
            </tr>
            <tr>
              <td>Drawn by hand</td>
              <td class="number">{{ whole(labour.by_hand) }}</td>
            </tr>
            <tr>
              <td class="soft">Proposed, and not kept</td>
              <td class="number soft">{{ whole(labour.refused) }}</td>
            </tr>
          </tbody>
        </table>
        <TimeSaved
          :time="labour.time"
          :timed="labour.timed"
          of="a box"
          by="picture"
          needs="5 pictures with boxes were labelled here without proposals, and one with them" />
      </section>
    </div>
    <template #footer>
      <el-button @click="shown = false">Close</el-button>
      <el-button
        type="primary"
        :disabled="!choice || !now?.unlabelled"
        :loading="busy"
        data-test="start-proposing"
        @click="propose"
        >Propose</el-button
      >
    </template>
  </el-dialog>
</template>

<style scoped>
.body,
section {
  display: grid;
  gap: 10px;
}
.body :deep(.figure-slider) {
  width: 100%;
}
.big {
  font: 560 20px/1.2 var(--serif);
}
</style>
