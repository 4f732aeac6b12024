<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref } from "vue";
import { useRouter } from "vue-router";

import { api, type Making, take } from "@/api/client";
import { complain, wordsOf } from "@/state/notes";

const router = useRouter();
const name = ref("");
const empty = ref(false);
const failed = ref("");

/** A project that the server is making: the demo, while it is rendered. */
const making = ref<Making | null>(null);
let again = 0;

onMounted(load);
onBeforeUnmount(() => window.clearTimeout(again));

async function load(): Promise<void> {
  failed.value = "";
  try {
    const { projects, making: underway } = await take(api.GET("/api/v1/projects"));
    const last = Number(localStorage.getItem("avocet.project"));
    const chosen = projects.find((each) => each.id === last) ?? projects[0];
    if (chosen) await router.replace(`/project/${chosen.id}/collect`);
    else if (underway) again = window.setTimeout(load, 500);
    else empty.value = true;
    making.value = chosen ? null : (underway ?? null);
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

async function create(): Promise<void> {
  try {
    const made = await take(api.POST("/api/v1/projects", { body: { name: name.value } }));
    await router.replace(`/project/${made.id}/collect`);
  } catch (error) {
    complain(error);
  }
}
</script>

<template>
  <main class="home">
    <div v-if="failed" class="notice bad">
      {{ failed }}. <el-button link type="primary" @click="load">Try again</el-button>
    </div>
    <form v-else-if="empty" novalidate @submit.prevent="create">
      <img src="/mark.svg" alt="" width="44" height="44" />
      <h1>Start a project</h1>
      <p class="soft">A project holds pictures of one task, their boxes, and the detectors trained on them.</p>
      <el-input v-model="name" aria-label="Project name" placeholder="Name, such as Cooling belt" size="large" />
      <el-button type="primary" native-type="submit" :disabled="!name.trim()" size="large">Create</el-button>
    </form>
    <div v-else-if="making" class="making" role="status" data-test="making">
      <p>{{ making.title }}</p>
      <el-progress
        :percentage="Math.floor((100 * making.done) / Math.max(1, making.total))"
        :stroke-width="8"
        :aria-label="making.title" />
      <p class="soft">This takes about half a minute, once.</p>
    </div>
    <p v-else class="soft">Opening</p>
  </main>
</template>

<style scoped>
.home {
  height: 100%;
  display: grid;
  place-items: center;
}
.making {
  width: 380px;
}
form {
  width: 380px;
  display: grid;
  gap: 14px;
}
</style>
