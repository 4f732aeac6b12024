<script setup lang="ts">
/** Which validation pictures are watched: drawn by seed, or chosen by hand. */
import { computed, onMounted, ref } from "vue";

import { api, type Picture, pictureUrl, take } from "@/api/client";
import { count } from "@/parts/format";
import { useProject } from "@/state/project";
import type { Draft } from "@/views/train/ahead/runSettings";
import { wordsOf } from "@/state/notes";

const props = defineProps<{ draft: Draft }>();
const store = useProject();
const MOST = 48;
const pictures = ref<Picture[]>([]);
const failed = ref("");
const chosen = computed(() => new Set(props.draft.watched));

onMounted(async () => {
  try {
    const found = await take(
      api.GET("/api/v1/projects/{project_id}/pictures", {
        params: { path: { project_id: store.id }, query: { part: "validation", limit: 120 } },
      }),
    );
    pictures.value = found.pictures.filter((each) => each.state === "done" || each.state === "empty");
  } catch (error) {
    failed.value = wordsOf(error);
  }
});

function toggle(id: number): void {
  const now = new Set(props.draft.watched);
  if (!now.delete(id) && now.size < MOST) now.add(id);
  props.draft.watched = [...now];
}
</script>

<template>
  <div class="panel" data-test="watch-choice">
    <p v-if="failed" class="notice bad">{{ failed }}</p>
    <p>
      What the run finds on its watch pictures is kept after every epoch, to be replayed.
      <template v-if="chosen.size"
        >{{ count(chosen.size, "picture") }} selected.
        <el-button link type="primary" @click="draft.watched = []">Draw by seed instead</el-button></template
      >
      <template v-else>Twelve are drawn by the seed, unless you select some here.</template>
    </p>
    <div class="tiles">
      <button
        v-for="each in pictures"
        :key="each.id"
        type="button"
        :aria-pressed="chosen.has(each.id)"
        :class="{ chosen: chosen.has(each.id) }"
        data-test="watch-tile"
        @click="toggle(each.id)">
        <img :src="pictureUrl(each, 'thumbnail')" :alt="each.name" loading="lazy" />
        <span>{{ chosen.has(each.id) ? "✓ " : "" }}{{ each.name }}</span>
      </button>
    </div>
    <p v-if="!pictures.length" class="soft">No labelled picture is in the validation part.</p>
  </div>
</template>

<style scoped>
.panel {
  display: grid;
  gap: 10px;
}
.tiles {
  display: grid;
  grid-template-columns: repeat(5, 1fr);
  gap: 6px;
}
button:not(.el-button) {
  border: 2px solid transparent;
  background: none;
  padding: 0;
  cursor: pointer;
  text-align: left;
  color: inherit;
  min-width: 0;
}
button.chosen {
  border-color: var(--leg);
}
img {
  width: 100%;
  aspect-ratio: 16 / 9;
  object-fit: contain;
  background: var(--stage);
  display: block;
  background: var(--stage);
}
span {
  display: block;
  font-size: 12px;
  padding: 1px 4px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
