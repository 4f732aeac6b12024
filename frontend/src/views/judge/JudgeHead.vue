<script setup lang="ts">
/** The head of every page of Judge. */
import StageHead from "@/parts/StageHead.vue";

const pages = [
  { path: "", name: "Measurements", test: "page-measurements" },
  { path: "/beside", name: "Two side by side", test: "page-beside" },
  { path: "/anatomy", name: "Anatomy", test: "page-anatomy" },
  { path: "/combine", name: "Combine models", test: "page-combine" },
];
</script>

<template>
  <StageHead name="Judge" path="judge" :pages="pages"><slot /></StageHead>
</template>
