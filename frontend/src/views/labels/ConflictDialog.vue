<script setup lang="ts">
/** One picture, two versions of its boxes: both are shown, and the person chooses. */
import { computed } from "vue";

import type { DrawnBox, Picture } from "@/api/client";
import BoxedPicture from "@/parts/BoxedPicture.vue";
import { count } from "@/parts/format";
import { useProject } from "@/state/project";

defineProps<{ picture: Picture; mine: DrawnBox[]; theirs: DrawnBox[] }>();
const emit = defineEmits<{ mine: []; theirs: []; both: [] }>();
const store = useProject();
const names = computed(() => store.allClasses.map((each) => each.name));
const drawn = (boxes: DrawnBox[]) =>
  boxes.map(({ corners, class_id }) => ({
    corners,
    classIndex: store.allClasses.findIndex((each) => each.id === class_id),
  }));
</script>

<template>
  <el-dialog
    :model-value="true"
    title="This picture was changed elsewhere"
    width="900"
    :show-close="false"
    :close-on-click-modal="false"
    :close-on-press-escape="false">
    <div class="two" data-test="conflict">
      <figure>
        <BoxedPicture :picture="picture" :names="names" :boxes="drawn(theirs)" />
        <figcaption>Saved meanwhile: {{ count(theirs.length, "box", "boxes") }}</figcaption>
      </figure>
      <figure>
        <BoxedPicture :picture="picture" :names="names" :boxes="drawn(mine)" />
        <figcaption>Here: {{ count(mine.length, "box", "boxes") }}</figcaption>
      </figure>
    </div>
    <template #footer>
      <el-button data-test="take-theirs" @click="emit('theirs')">Keep the saved one</el-button>
      <el-button data-test="keep-mine" @click="emit('mine')">Keep the one here</el-button>
      <el-button type="primary" data-test="keep-both" @click="emit('both')">Keep what both did</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 14px;
}
figure {
  margin: 0;
}
figcaption {
  margin-top: 6px;
}
</style>
