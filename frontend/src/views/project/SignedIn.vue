<script setup lang="ts">
/** At the foot of the rail, where a password is wanted: signing out, and ending the sessions of others. */
import { onMounted, ref } from "vue";

import { api, take } from "@/api/client";
import { count } from "@/parts/format";
import { complain, say } from "@/state/notes";

const signedIn = ref(false);
const others = ref(0);

onMounted(async () => {
  try {
    const told = await take(api.GET("/api/v1/session"));
    [signedIn.value, others.value] = [told.signed_in, told.others];
  } catch (error) {
    complain(error);
  }
});

async function end(ofOthers: boolean): Promise<void> {
  try {
    await take(api.DELETE("/api/v1/session", { params: { query: { others: ofOthers } } }));
    if (!ofOthers) return window.location.assign("/sign-in");
    say(`${count(others.value, "other session")} ended`);
    others.value = 0;
  } catch (error) {
    complain(error);
  }
}
</script>

<template>
  <p v-if="signedIn" class="soft signed-in" data-test="signed-in">
    <el-button link type="primary" data-test="sign-out" @click="end(false)">Sign out</el-button>
    <el-button v-if="others" link type="primary" data-test="end-others" @click="end(true)"
      >End {{ count(others, "other session") }}</el-button
    >
  </p>
</template>

<style scoped>
.signed-in :deep(.el-button) {
  margin: 0 10px 0 0;
}
</style>
