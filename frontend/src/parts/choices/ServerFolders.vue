<script setup lang="ts">
/** A folder on the server's disk: choose one, and whether its pictures are copied. */
import { ref, watch } from "vue";

import { api, type ServerFolder, take } from "@/api/client";
import { count } from "@/parts/format";
import { complain } from "@/state/notes";

const shown = defineModel<boolean>({ required: true });
/** Only looked into: nothing of it comes into the project. */
const props = defineProps<{ looking?: boolean }>();
const emit = defineEmits<{ take: [path: string, copied: boolean] }>();
const roots = ref<ServerFolder[]>([]);
const here = ref<ServerFolder | null>(null);
const trail = ref<string[]>([]);
const copied = ref(true);
const loaded = ref(false);

watch(shown, async (open) => {
  if (!open) return;
  here.value = null;
  trail.value = [];
  loaded.value = false;
  try {
    roots.value = (await take(api.GET("/api/v1/folders"))).folders;
    // Where there is but one there is nothing to choose yet.
    here.value = (roots.value.length === 1 && roots.value[0]) || null;
    loaded.value = true;
  } catch (error) {
    complain(error);
  }
});

async function go(path: string, back = false): Promise<void> {
  try {
    const found = await take(api.GET("/api/v1/folders", { params: { query: { path } } }));
    if (!back && here.value) trail.value.push(here.value.path);
    here.value = found.folders[0] ?? null;
  } catch (error) {
    complain(error);
  }
}

async function up(): Promise<void> {
  const before = trail.value.pop();
  if (before) await go(before, true);
  else here.value = null;
}

function accept(): void {
  emit("take", here.value!.path, copied.value);
  shown.value = false;
}
</script>

<template>
  <el-dialog v-model="shown" title="A folder on the server" width="540" append-to-body>
    <div class="body" data-test="server-folders">
      <p v-if="loaded && !roots.length" class="soft">
        This server was started without any. Start it with <code>--folder PATH</code> to allow one.
      </p>
      <template v-if="here">
        <p>
          <el-button v-if="trail.length || roots.length > 1" size="small" @click="up">Back</el-button>
          <b>{{ here.path }}</b>
        </p>
        <p class="soft">{{ count(here.pictures, "picture") }} in it, and whatever its folders hold</p>
        <button v-for="name in here.folders" :key="name" class="folder" @click="go(`${here.path}/${name}`)">
          {{ name }}
        </button>
        <el-radio-group v-if="!props.looking" v-model="copied">
          <el-radio :value="true">Copy the pictures</el-radio>
          <el-radio :value="false" data-test="in-place">Read them where they lie</el-radio>
        </el-radio-group>
      </template>
      <button v-for="each in here ? [] : roots" :key="each.path" class="folder" @click="go(each.path)">
        {{ each.path }}
      </button>
    </div>
    <template #footer>
      <el-button @click="shown = false">Cancel</el-button>
      <el-button type="primary" :disabled="!here" data-test="take-folder" @click="accept">{{
        props.looking ? "Use this folder" : "Take its pictures"
      }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.body {
  display: grid;
  gap: 8px;
  max-height: 50vh;
  overflow: auto;
}
.folder {
  text-align: left;
  border: 0;
  border-bottom: 1px solid var(--rule);
  background: none;
  padding: 6px 4px;
  cursor: pointer;
  color: var(--leg-deep);
}
.folder:hover {
  background: var(--paper-deep);
}
</style>
