<script setup lang="ts">
/** The left rail with the four stages, and the view of the chosen one. */
import { computed, onBeforeUnmount, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Project, take } from "@/api/client";
import { capital, count, precision, whole } from "@/parts/format";
import JobStrip from "@/parts/jobs/JobStrip.vue";
import { useKeys } from "@/state/keys";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import SignedIn from "@/views/project/SignedIn.vue";

const route = useRoute();
const router = useRouter();
const store = useProject();
const projects = ref<Project[]>([]);
/** Until the list is there, the project that is open. */
const known = computed(() => (projects.value.length || !store.project ? projects.value : [store.project]));
const failed = ref("");
const naming = ref(false);
const newName = ref("");

const base = computed(() => `/project/${store.id}`);
const stages = computed(() => {
  const figures = store.project?.stages;
  if (!figures) return [];
  return [
    {
      name: "Collect",
      path: "collect",
      state: figures.pictures ? `${whole(figures.labelled)} of ${whole(figures.pictures)} labelled` : "No pictures yet",
      more: [
        count(figures.boxes, "box", "boxes"),
        ...(figures.in_progress ? [`${whole(figures.in_progress)} in progress`] : []),
      ].join(", "),
    },
    {
      name: "Train",
      path: "train",
      state: figures.runs ? count(figures.runs, "run") + (figures.training ? ", training now" : "") : "No run yet",
      more: figures.best_map50 !== null ? `best mAP ${precision(figures.best_map50)} at 0.5` : "",
    },
    {
      name: "Judge",
      path: "judge",
      state: figures.last_map50 !== null ? `mAP ${precision(figures.last_map50)} at 0.5` : "Not measured yet",
      more: figures.last_part ? `on ${figures.last_part}` : "",
    },
    {
      name: "Use",
      path: "use",
      state: figures.detections ? count(figures.detections, "detection run") : "Not used yet",
      more: figures.last_source ? `last on ${figures.last_source}` : "",
    },
  ];
});

watch(() => Number(route.params.project), open, { immediate: true });
onBeforeUnmount(store.close);

async function open(projectId: number): Promise<void> {
  failed.value = "";
  try {
    await store.open(projectId);
    localStorage.setItem("avocet.project", String(projectId));
    projects.value = (await take(api.GET("/api/v1/projects"))).projects;
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

async function choose(value: number): Promise<void> {
  if (value === 0) naming.value = true;
  else await router.push(`/project/${value}/collect`);
}

async function create(): Promise<void> {
  try {
    const made = await take(api.POST("/api/v1/projects", { body: { name: newName.value } }));
    naming.value = false;
    newName.value = "";
    await router.push(`/project/${made.id}/collect`);
  } catch (error) {
    complain(error);
  }
}

useKeys(
  ["collect", "train", "judge", "use"].map((path) => ({
    keys: [`Alt+${path.charAt(0)}`],
    label: `Go to ${capital(path)}`,
    run: () => router.push(`${base.value}/${path}`),
  })),
);
</script>

<template>
  <div class="frame">
    <nav class="rail" aria-label="Stages">
      <div class="mark"><img src="/mark.svg" alt="" width="28" height="28" /><span>Avocet</span></div>
      <el-select :model-value="store.id" aria-label="Project" class="project" @change="choose">
        <el-option v-for="each in known" :key="each.id" :value="each.id" :label="each.name" />
        <el-option :value="0" label="New project" class="new-project" />
      </el-select>
      <ol>
        <li v-for="stage in stages" :key="stage.path">
          <router-link
            :to="`${base}/${stage.path}`"
            :class="{ here: $route.path.startsWith(`${base}/${stage.path}`) }"
            :data-test="`stage-${stage.path}`">
            <span class="name">{{ stage.name }}</span>
            <span class="state">{{ stage.state }}</span>
            <span v-if="stage.more" class="state">{{ stage.more }}</span>
          </router-link>
        </li>
      </ol>
      <div class="foot">
        <p v-if="store.lost" class="notice bad">The server cannot be reached. Trying again.</p>
        <JobStrip />
        <SignedIn />
        <p class="soft hint"><a href="/docs/first-hour.html" target="_blank">Documents</a></p>
        <p class="soft hint"><kbd>?</kbd> lists the keys</p>
      </div>
    </nav>
    <main>
      <div v-if="failed" class="view-body">
        <p class="notice bad">{{ failed }}. <router-link to="/">To the projects</router-link></p>
      </div>
      <router-view v-else-if="store.project" :key="$route.path" />
    </main>
    <el-dialog v-model="naming" title="New project" width="420">
      <form novalidate @submit.prevent="create">
        <el-input v-model="newName" aria-label="Project name" placeholder="Name" />
        <p style="margin-top: 14px; text-align: right">
          <el-button type="primary" native-type="submit" :disabled="!newName.trim()">Create</el-button>
        </p>
      </form>
    </el-dialog>
  </div>
</template>

<style scoped>
.frame {
  display: grid;
  grid-template-columns: 212px minmax(0, 1fr);
  height: 100%;
}
main {
  min-width: 0;
  min-height: 0;
  overflow: hidden;
}
.rail {
  background: var(--paper-deep);
  border-right: 1px solid var(--rule);
  display: flex;
  flex-direction: column;
  padding: 16px 14px 12px;
  min-height: 0;
}
.mark {
  display: flex;
  align-items: center;
  gap: 8px;
  font: 600 20px/1 var(--serif);
  margin-bottom: 14px;
}
.project {
  margin-bottom: 12px;
}
ol {
  list-style: none;
  margin: 0;
  padding: 0;
}
li + li {
  border-top: 1px solid var(--rule);
}
li a {
  display: block;
  padding: 10px 10px;
  text-decoration: none;
  color: inherit;
  border-left: 3px solid transparent;
}
li a:hover {
  background: #e9e4d7;
}
li a.here {
  border-left-color: var(--leg);
  background: var(--paper);
}
.name {
  display: block;
  font: 560 17px/1.3 var(--serif);
}
.state {
  display: block;
  font-size: 13px;
  color: var(--ink-soft);
}
.foot {
  margin-top: auto;
  display: grid;
  gap: 10px;
  min-height: 0;
}
.hint {
  font-size: 13px;
}
</style>
