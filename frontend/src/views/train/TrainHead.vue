<script setup lang="ts">
/** The head of every page of Train. */
import StageHead from "@/parts/StageHead.vue";

const pages = [
  { path: "", name: "New run", test: "page-new-run" },
  { path: "/runs", name: "Runs", test: "page-runs" },
  { path: "/study", name: "How many pictures?", test: "page-study" },
];
</script>

<template>
  <StageHead name="Train" path="train" :pages="pages"><slot /></StageHead>
</template>
