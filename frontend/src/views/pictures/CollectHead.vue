<script setup lang="ts">
/** The head of every page of Collect. */
import StageHead from "@/parts/StageHead.vue";

const pages = [
  { path: "", name: "Pictures", test: "page-pictures" },
  { path: "/clips", name: "Clips", test: "page-clips" },
  { path: "/classes", name: "Classes", test: "page-classes" },
  { path: "/figures", name: "Figures", test: "page-figures" },
  { path: "/audit", name: "Audit", test: "page-audit" },
  { path: "/snapshots", name: "Snapshots", test: "page-snapshots" },
  { path: "/changes", name: "Changes", test: "page-changes" },
];
</script>

<template>
  <StageHead name="Collect" path="collect" :pages="pages"><slot /></StageHead>
</template>
