<script setup lang="ts">
/** Choose a picture of the project, by name. */
import { onMounted, ref } from "vue";

import { api, type Picture, take } from "@/api/client";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";

const chosen = defineModel<number | undefined>({ required: true });
const emit = defineEmits<{ found: [pictures: Picture[]] }>();
const store = useProject();
const pictures = ref<Picture[]>([]);
const busy = ref(false);

async function list(name = ""): Promise<void> {
  busy.value = true;
  try {
    const query = { limit: 100, name: name || undefined };
    const found = await take(
      api.GET("/api/v1/projects/{project_id}/pictures", { params: { path: { project_id: store.id }, query } }),
    );
    pictures.value = found.pictures;
    if (chosen.value && !name && !found.pictures.some((each) => each.id === chosen.value)) {
      const one = await take(
        api.GET("/api/v1/pictures/{picture_id}", { params: { path: { picture_id: chosen.value } } }),
      );
      pictures.value = [one.picture, ...found.pictures];
    }
    chosen.value ??= found.pictures[0]?.id;
    emit("found", pictures.value);
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
onMounted(() => list());
</script>

<template>
  <el-select
    v-model="chosen"
    filterable
    remote
    :remote-method="list"
    :loading="busy"
    size="small"
    aria-label="Picture"
    placeholder="Name of a picture"
    style="width: 130px"
    data-test="pick-picture">
    <el-option v-for="each in pictures" :key="each.id" :value="each.id" :label="each.name" />
  </el-select>
</template>
