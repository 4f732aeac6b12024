<script setup lang="ts">
/** The head of every page of a stage: its name, its pages, and what the page puts beside them. */
import { useRouter } from "vue-router";

import { useKeys } from "@/state/keys";
import { useProject } from "@/state/project";

const props = defineProps<{ name: string; path: string; pages: { path: string; name: string; test: string }[] }>();
const store = useProject();
const router = useRouter();
const address = (page: { path: string }): string => `/project/${store.id}/${props.path}${page.path}`;

useKeys(
  props.pages.map((page, index) => ({
    keys: [`Alt+${index + 1}`],
    label: `${props.name}: ${page.name}`,
    run: () => router.push(address(page)),
  })),
);
</script>

<template>
  <header class="view-head">
    <h1>{{ name }}</h1>
    <nav :aria-label="`Pages of ${name}`">
      <router-link
        v-for="page in pages"
        :key="page.path"
        :to="address(page)"
        exact-active-class="here"
        :data-test="page.test"
        >{{ page.name }}</router-link
      >
    </nav>
    <span class="spread" />
    <slot />
  </header>
</template>

<style scoped>
nav {
  display: flex;
  gap: 2px;
}
a {
  padding: 4px 9px;
  color: var(--ink-soft);
  text-decoration: none;
  border-bottom: 2px solid transparent;
}
a:hover {
  color: var(--ink);
}
a.here {
  color: var(--ink);
  border-bottom-color: var(--leg);
}
</style>
