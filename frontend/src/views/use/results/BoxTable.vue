<script setup lang="ts">
/** Every box in a row of its own, with its crop: sorted, of one class, a click from its picture. */
import { ref, watch } from "vue";

import { api, type FoundBox, take } from "@/api/client";
import ClassBadge from "@/parts/classes/ClassBadge.vue";
import { count } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain } from "@/state/notes";
import { useProject } from "@/state/project";
import type { Found } from "@/views/use/results/found";

const props = defineProps<{ detectionId: number; classes: string[]; query: Found["query"]["value"] }>();
const emit = defineEmits<{ open: [box: FoundBox] }>();
const store = useProject();

type BoxSort = "as they came" | "least sure" | "surest" | "smallest" | "largest";
const SOME = 60;
const sort = ref<BoxSort>("least sure");
const ofClass = ref("all");
const boxes = ref<FoundBox[]>([]);
const total = ref(0);
const loading = ref(false);
const at = ref(0);
let version = 0;

async function load(more = false): Promise<void> {
  const mine = ++version;
  loading.value = true;
  try {
    const query = {
      ...props.query,
      sort: sort.value,
      ...(ofClass.value === "all" ? {} : { with_class: ofClass.value.slice(1) }),
      start: more ? boxes.value.length : 0,
      count: SOME,
    };
    const some = await take(
      api.GET("/api/v1/detections/{detection_id}/boxes", {
        params: { path: { detection_id: props.detectionId }, query },
      }),
    );
    if (mine !== version) return;
    total.value = some.total;
    boxes.value = more ? [...boxes.value, ...some.boxes] : some.boxes;
    if (!more) at.value = 0;
  } catch (error) {
    complain(error);
  } finally {
    loading.value = false;
  }
}
// What was chosen in a list is chosen: from here on the arrows go through the boxes again.
watch([sort, ofClass], () => (document.activeElement as HTMLElement | null)?.blur(), { flush: "post" });
watch([sort, ofClass, () => props.query], () => void load(), { immediate: true, deep: true });

function scrolled(event: Event): void {
  const place = event.target as HTMLElement;
  const near = place.scrollTop + place.clientHeight > place.scrollHeight - 600;
  if (near && !loading.value && boxes.value.length < total.value) void load(true);
}
function move(by: number): void {
  at.value = Math.min(Math.max(at.value + by, 0), boxes.value.length - 1);
  document.querySelector(`[data-row="${at.value}"]`)?.scrollIntoView({ block: "nearest" });
}
function openIt(): false | void {
  const chosen = boxes.value[at.value];
  if (!chosen) return false;
  emit("open", chosen);
}
const crop = (box: FoundBox): string => `/api/v1/detections/${props.detectionId}/boxes/${box.number}/pixels`;
const size = (box: FoundBox): string =>
  `${Math.round(box.box[2]! - box.box[0]!)} × ${Math.round(box.box[3]! - box.box[1]!)}`;
function badge(name: string): { number: number; colour: string; name: string } {
  const index = store.classes.findIndex((each) => each.name === name);
  return { number: index + 1, colour: store.classes[index]?.colour ?? "#A9B8C9", name };
}

useKeys([
  { keys: ["ArrowDown"], label: "Next box", run: () => move(1) },
  { keys: ["ArrowUp"], label: "Previous box", run: () => move(-1) },
  { keys: ["Enter"], label: "Open the box on its picture", run: openIt },
]);
</script>

<template>
  <div class="table">
    <div class="bar">
      <el-select v-model="sort" size="small" aria-label="Sort" style="width: 150px" data-test="box-sort">
        <el-option value="least sure" label="Least sure first" />
        <el-option value="surest" label="Surest first" />
        <el-option value="smallest" label="Smallest first" />
        <el-option value="largest" label="Largest first" />
        <el-option value="as they came" label="As they came" />
      </el-select>
      <el-select v-model="ofClass" size="small" aria-label="Class" style="width: 170px">
        <el-option value="all" label="All classes" />
        <el-option v-for="name in classes" :key="name" :value="`=${name}`" :label="name" />
      </el-select>
      <span class="soft">{{ count(total, "box", "boxes") }}</span>
    </div>
    <div class="rows" @scroll="scrolled">
      <p v-if="!boxes.length && !loading" class="soft none">No box fits.</p>
      <table v-else class="figures">
        <thead>
          <tr>
            <th style="width: 90px">Box</th>
            <th>Class</th>
            <th class="number">Score</th>
            <th class="number">Pixels</th>
            <th class="number">Object</th>
            <th>Found on</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="(each, index) in boxes"
            :key="each.number"
            :class="{ now: index === at }"
            :data-row="index"
            data-test="box-row"
            @click="at = index">
            <td>
              <button type="button" class="crop" :aria-label="`Open box ${each.number}`" @click="emit('open', each)">
                <img loading="lazy" :src="crop(each)" alt="" />
              </button>
            </td>
            <td><ClassBadge v-bind="badge(each.class_name)" /></td>
            <td class="number">{{ each.score.toFixed(3) }}</td>
            <td class="number">{{ size(each) }}</td>
            <td class="number">{{ each.object || "–" }}</td>
            <td>
              {{ each.name }}
              <span v-if="each.seconds !== null" class="soft"
                >{{ each.seconds.toFixed(2) }} s, frame {{ each.frame }}</span
              >
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.table {
  display: grid;
  grid-template-rows: auto minmax(0, 1fr);
  min-height: 0;
}
.bar {
  display: flex;
  align-items: center;
  gap: 10px;
  padding: 8px 14px;
  border-bottom: 1px solid var(--rule);
}
.rows {
  overflow: auto;
  padding: 0 14px 14px;
}
.crop {
  display: grid;
  place-items: center;
  width: 76px;
  height: 56px;
  padding: 0;
  border: 0;
  background: var(--stage);
  cursor: zoom-in;
}
.crop img {
  width: 76px;
  height: 56px;
  object-fit: contain;
}
tr.now {
  background: var(--paper-deep);
}
.none {
  padding: 14px 0;
}
</style>
