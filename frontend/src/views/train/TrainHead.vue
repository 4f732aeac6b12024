<script setup lang="ts">
/** The head of every page of Train: its name, its pages, and what the page puts beside them. */
import { useRouter } from "vue-router";

import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";

const store = useProject();
const router = useRouter();
const pages = [
  { path: "", name: "New run", test: "page-new-run" },
  { path: "/runs", name: "Runs", test: "page-runs" },
  { path: "/study", name: "How many pictures?", test: "page-study" },
];

useKeys(
  pages.map((page, index) => ({
    keys: [`Alt+${index + 1}`],
    label: `Train: ${page.name}`,
    run: () => router.push(`/project/${store.id}/train${page.path}`),
  })),
);
</script>

<template>
  <header class="view-head">
    <h1>Train</h1>
    <nav aria-label="Pages of Train">
      <router-link
        v-for="page in pages"
        :key="page.path"
        :to="`/project/${store.id}/train${page.path}`"
        exact-active-class="here"
        :data-test="page.test"
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
