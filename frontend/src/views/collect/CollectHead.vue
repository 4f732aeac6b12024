<script setup lang="ts">
/** The head of every page of Collect: its name, its pages, and what the page puts beside them. */
import { useRouter } from "vue-router";

import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";

const store = useProject();
const router = useRouter();
const pages = [
  { path: "", name: "Pictures" },
  { path: "/classes", name: "Classes" },
  { path: "/figures", name: "Figures" },
  { path: "/audit", name: "Audit" },
  { path: "/snapshots", name: "Snapshots" },
];

useKeys(
  pages.map((page, index) => ({
    keys: [`Alt+${index + 1}`],
    label: `Collect: ${page.name}`,
    run: () => router.push(`/project/${store.id}/collect${page.path}`),
  })),
);
</script>

<template>
  <header class="view-head">
    <h1>Collect</h1>
    <nav aria-label="Pages of Collect">
      <router-link
        v-for="page in pages"
        :key="page.path"
        :to="`/project/${store.id}/collect${page.path}`"
        exact-active-class="here"
        :data-test="`page-${page.name.toLowerCase()}`"
      >
        {{ page.name }}
      </router-link>
    </nav>
    <span class="spread" />
    <slot />
  </header>
</template>

<style scoped>
nav { display: flex; gap: 2px; }
a { padding: 4px 9px; color: var(--ink-soft); text-decoration: none; border-bottom: 2px solid transparent; }
a:hover { color: var(--ink); }
a.here { color: var(--ink); border-bottom-color: var(--leg); }
</style>
