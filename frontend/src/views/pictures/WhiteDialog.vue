<script setup lang="ts">
/** What is white in the project's pictures of more than 8 bits: told, and another chosen. */
import { computed, ref, watch } from "vue";

import { api, take, type White } from "@/api/client";
import { count, noun, whole } from "@/parts/format";
import { complain, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";
import WhiteSelect from "@/parts/choices/WhiteSelect.vue";

const shown = defineModel<boolean>({ required: true });
const props = defineProps<{ white: White }>();
const emit = defineEmits<{ changed: [] }>();
const store = useProject();
const wished = ref<number | null>(null);
const busy = ref(false);

watch(shown, (open) => {
  if (open) wished.value = props.white.chosen;
});

/** Where a white comes from, for those whose files say it and for the others. */
const told = computed(() => {
  const { pictures, declared, of_set } = props.white;
  const others = pictures - declared;
  const said = `${count(declared, "file")} ${declared === 1 ? "says" : "say"} what is white`;
  const fit =
    of_set === null
      ? ""
      : `${whole(of_set)} is the smallest usual white that ${others === 1 ? "it fits" : "all of them fit"} into`;
  if (!others) return `${said}.`;
  return declared
    ? `${said}; ${whole(others)} ${noun(others, "does", "do")} not, and ${fit}.`
    : `The files do not say what is white; ${fit}.`;
});

async function put(white: number | null): Promise<void> {
  const params = { path: { project_id: store.id } };
  await take(api.PUT("/api/v1/projects/{project_id}/white", { params, body: { white } }));
  emit("changed");
}

async function save(): Promise<void> {
  const before = props.white.chosen;
  busy.value = true;
  try {
    await put(wished.value);
    shown.value = false;
    const now =
      wished.value === null
        ? "White is as the files and pictures say"
        : `White is ${whole(wished.value)} in all of them`;
    sayWithUndo(now, () => put(before));
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <el-dialog v-model="shown" title="White in pictures of more than 8 bits" width="520" top="12vh">
    <form novalidate data-test="white-form" @submit.prevent="save">
      <p>
        {{ count(white.pictures, "picture") }} here {{ noun(white.pictures, "has", "have") }} more than 8 bits. Networks
        and screens take 8, so one value is read as white, and all above it too.
      </p>
      <p class="soft">{{ told }}</p>
      <label class="line"
        ><span>White</span> <WhiteSelect v-model="wished" automatic="As files and pictures say"
      /></label>
      <p class="soft">Snapshots that are there, and runs trained on them, keep the white that they were made with.</p>
      <p class="foot">
        <el-button
          type="primary"
          native-type="submit"
          :disabled="busy || wished === white.chosen"
          data-test="white-save"
          >Save</el-button
        >
      </p>
    </form>
  </el-dialog>
</template>

<style scoped>
form {
  display: grid;
  gap: 10px;
}
.line {
  display: flex;
  gap: 10px;
  align-items: center;
}
.foot {
  display: flex;
  justify-content: flex-end;
}
</style>
