<script setup lang="ts">
/** Pictures that came to an address and the model was least sure of: kept, and sent to Collect for labelling. */
import { ref, watch } from "vue";

import { api, type Address, type KeptPicture, take } from "@/api/client";
import Explained from "@/parts/Explained.vue";
import { count } from "@/parts/format";
import { complain, say } from "@/state/notes";
import { useProject } from "@/state/project";

const props = defineProps<{ address: Address }>();
const emit = defineEmits<{ changed: [] }>();
const store = useProject();
const share = ref(0);
const kept = ref<KeptPicture[]>([]);
const sending = ref(false);

watch(
  () => props.address,
  async (address) => {
    share.value = Math.round(100 * address.keep_share);
    try {
      const params = { path: { address_id: address.id } };
      kept.value = (await take(api.GET("/api/v1/addresses/{address_id}/kept", { params }))).pictures;
    } catch (error) {
      complain(error);
    }
  },
  { immediate: true },
);

async function save(): Promise<void> {
  const order = props.address.order as {
    minimum_score?: number;
    overlap_limit?: number;
    only?: string[];
    white?: number;
  };
  try {
    const params = { path: { address_id: props.address.id } };
    const body = {
      minimum_score: order.minimum_score ?? null,
      overlap_limit: order.overlap_limit ?? 0.5,
      only: order.only ?? [],
      white: order.white ?? null,
      keep_share: share.value / 100,
    };
    await take(api.PATCH("/api/v1/addresses/{address_id}", { params, body }));
    emit("changed");
  } catch (error) {
    complain(error);
  }
}
async function collect(): Promise<void> {
  sending.value = true;
  try {
    const params = { path: { address_id: props.address.id } };
    const body = { files: kept.value.map((each) => each.file) };
    const starting = take(api.POST("/api/v1/addresses/{address_id}/collect", { params, body }));
    const { outcome } = await store.outcomeOf("collect_kept", starting);
    say(`${count(outcome.added, "picture")} sent to Collect; their boxes are kept as proposals`);
    emit("changed");
  } catch (error) {
    complain(error);
  } finally {
    sending.value = false;
  }
}
</script>

<template>
  <section>
    <h3>
      <Explained
        says="A picture is kept where a box lies nearer to its minimum score than on most others that came lately."
        >Kept for labelling</Explained
      >
    </h3>
    <p class="line">
      Of what comes, keep the least sure
      <el-input-number
        v-model="share"
        size="small"
        :min="0"
        :max="100"
        :step="5"
        aria-label="Share that is kept, per cent"
        data-test="keep-share"
        @change="save" />
      %
    </p>
    <template v-if="kept.length">
      <div class="pictures">
        <img
          v-for="each in kept.slice(0, 8)"
          :key="each.file"
          :src="`/api/v1/addresses/${address.id}/kept/${each.file}`"
          :alt="each.name"
          :title="`${each.name}, ${each.boxes} boxes`" />
      </div>
      <p class="line">
        {{ count(kept.length, "picture") }} kept
        <el-button size="small" :loading="sending" data-test="collect-kept" @click="collect">Send to Collect</el-button>
      </p>
    </template>
  </section>
</template>

<style scoped>
section {
  display: grid;
  gap: 8px;
  margin-bottom: 20px;
}
.line {
  display: flex;
  gap: 8px;
  align-items: center;
}
.pictures {
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  gap: 4px;
}
img {
  width: 100%;
  aspect-ratio: 16 / 9;
  object-fit: cover;
  background: var(--stage);
}
</style>
