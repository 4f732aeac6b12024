<script setup lang="ts">
/** Looking for labelling mistakes: what looks wrong by rule, and all boxes of a class side by side. */
import { ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";

import { useProject } from "@/state/project";
import ClassBadge from "@/parts/classes/ClassBadge.vue";
import ClassSheet from "@/views/audit/ClassSheet.vue";
import FindingList from "@/views/audit/FindingList.vue";
import CollectHead from "@/views/pictures/CollectHead.vue";

const store = useProject();
const route = useRoute();
const router = useRouter();
const shownClass = ref<number | null>(route.query.class ? Number(route.query.class) : null);

watch(shownClass, (now) => void router.replace({ query: now ? { ...route.query, class: String(now) } : {} }));
</script>

<template>
  <div class="view">
    <CollectHead />
    <div class="audit">
      <nav aria-label="What to look through">
        <button :class="{ here: shownClass === null }" data-test="audit-findings" @click="shownClass = null">
          What looks wrong
        </button>
        <h3>All boxes of</h3>
        <button
          v-for="each in store.allClasses"
          :key="each.id"
          :class="{ here: shownClass === each.id }"
          :data-test="`audit-${each.name}`"
          @click="shownClass = each.id">
          <ClassBadge :number="each.position" :colour="each.colour" :name="each.name" />
          <span class="soft">{{ each.boxes }}</span>
        </button>
      </nav>
      <FindingList v-if="shownClass === null" />
      <ClassSheet v-else :key="shownClass" :class-id="shownClass" />
    </div>
  </div>
</template>

<style scoped>
.audit {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: 190px minmax(0, 1fr);
}
nav {
  border-right: 1px solid var(--rule);
  padding: 14px 10px;
  overflow: auto;
  display: grid;
  align-content: start;
  gap: 2px;
}
h3 {
  margin: 12px 8px 4px;
}
button {
  display: flex;
  justify-content: space-between;
  align-items: center;
  border: 0;
  background: none;
  padding: 5px 8px;
  cursor: pointer;
  color: inherit;
  text-align: left;
  border-left: 3px solid transparent;
}
button:hover {
  background: var(--paper-deep);
}
button.here {
  border-left-color: var(--leg);
  background: var(--leg-pale);
}
</style>
