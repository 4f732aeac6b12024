<script setup lang="ts">
/** The head of every page of Use. */
import StageHead from "@/parts/StageHead.vue";

const pages = [
  { path: "", name: "Detection runs", test: "page-runs" },
  { path: "/live", name: "Live", test: "page-live" },
  { path: "/addresses", name: "Addresses", test: "page-addresses" },
];
</script>

<template>
  <StageHead name="Use" path="use" :pages="pages"><slot /></StageHead>
</template>
