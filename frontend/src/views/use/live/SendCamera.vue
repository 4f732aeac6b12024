<script setup lang="ts">
/** Sends the camera of this computer for as long as it is shown. */
import { onBeforeUnmount, onMounted, ref } from "vue";

import { wordsOf } from "@/state/notes";
import { type Sender, sendCamera } from "@/views/use/live/sending";

const props = defineProps<{ liveId: number }>();
const sending = ref(false);
const sent = ref(0);
const failed = ref("");
let sender: Sender | undefined;
let gone = false;

/** What browsers call it, in words of ours. */
const REASONS: Record<string, string> = {
  NotAllowedError: "The browser was told not to give this page the camera",
  NotFoundError: "This computer has no camera",
  NotReadableError: "Another program has the camera",
};

async function begin(): Promise<void> {
  if (sending.value) return;
  [failed.value, sent.value, sending.value] = ["", 0, true];
  try {
    sender = await sendCamera(
      props.liveId,
      () => (sent.value += 1),
      (error) => ([failed.value, sending.value] = [wordsOf(error), false]),
    );
    if (gone) sender.stop();
  } catch (error) {
    sending.value = false;
    failed.value = (error instanceof DOMException && REASONS[error.name]) || wordsOf(error);
  }
}
function end(): void {
  sender?.stop();
  sending.value = false;
}
onMounted(begin);
onBeforeUnmount(() => {
  gone = true;
  end();
});
</script>

<template>
  <section data-test="send-camera">
    <p v-if="sending">
      This computer's camera, <b data-test="frames-sent">{{ sent }}</b> frames sent
      <el-button size="small" @click="end">Pause</el-button>
    </p>
    <p v-else>
      <el-button size="small" type="primary" data-test="send-here" @click="begin"
        >Send this computer's camera</el-button
      >
    </p>
    <p v-if="failed" class="notice bad">{{ failed }}</p>
  </section>
</template>

<style scoped>
section {
  display: grid;
  gap: 5px;
  padding: 12px 14px;
  border-bottom: 1px solid var(--rule);
}
</style>
