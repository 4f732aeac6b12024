<script setup lang="ts">
/** All boxes of a class as crops, in an order that brings mistakes to one end. */
import { computed, nextTick, onBeforeUnmount, onMounted, reactive, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Crop, take } from "@/api/client";
import { count } from "@/parts/format";
import ClassPicker from "@/parts/classes/ClassPicker.vue";
import { type Origin, ORIGINS } from "@/parts/origins";
import { classesLike, classesUsed, classWasUsed } from "@/state/classesUsed";
import { classNumbers, SOON } from "@/state/classNumbers";
import { useKeys } from "@/state/keys";
import { complain, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import CropTile from "@/views/audit/CropTile.vue";

const props = defineProps<{ classId: number }>();
const store = useProject();
const route = useRoute();
const router = useRouter();

type Order = "size" | "shape" | "brightness" | "date" | "strange";
const PAGE = 200;
const orders: { value: Order; label: string }[] = [
  { value: "strange", label: "Least like the others" },
  { value: "size", label: "Size" },
  { value: "shape", label: "Shape" },
  { value: "brightness", label: "Brightness" },
  { value: "date", label: "Date labelled" },
];
const order = ref<Order>((route.query.order as Order | undefined) ?? "strange");
const descending = ref(route.query.rising !== "true");
const origin = ref<Origin | "">((route.query.origin as Origin | undefined) ?? "");
const crops = ref<Crop[]>([]);
const total = ref(0);
const unseen = ref(0);
const looking = ref(false);
const failed = ref("");
const chosen = reactive(new Set<number>());
const focused = ref(-1);
const frame = ref<HTMLDivElement>();
let lastChosen = -1;
let leftUnseen = 0;
const memory = computed(() => `avocet.sheet.${store.id}.${props.classId}.${order.value}.${descending.value}`);

onMounted(async () => {
  await load();
  const kept = JSON.parse(sessionStorage.getItem(memory.value) ?? "null") as { top: number; count: number } | null;
  while (kept && crops.value.length < Math.min(kept.count, total.value)) await load(true);
  await nextTick();
  if (kept) frame.value?.scrollTo(0, kept.top);
});
watch([order, descending, origin], async () => {
  chosen.clear();
  focused.value = -1;
  const rising = descending.value ? undefined : "true";
  void router.replace({ query: { ...route.query, order: order.value, rising, origin: origin.value || undefined } });
  await load();
});

async function load(more = false): Promise<void> {
  try {
    const query = {
      class_id: props.classId,
      order: order.value,
      descending: descending.value,
      origin: origin.value || undefined,
      start: more ? crops.value.length : 0,
      limit: PAGE,
    };
    const found = await take(
      api.GET("/api/v1/projects/{project_id}/sheet", { params: { path: { project_id: store.id }, query } }),
    );
    crops.value = more ? [...crops.value, ...found.crops] : found.crops;
    total.value = found.total;
    unseen.value = found.unseen;
    failed.value = "";
    // Once for each number of unseen boxes: those of a picture that cannot be read stay unseen.
    const byContent = order.value === "strange" || order.value === "brightness";
    if (byContent && found.unseen && found.unseen !== leftUnseen && !looking.value) void lookAtCrops();
  } catch (error) {
    failed.value = wordsOf(error);
  }
}

/** These two orders need a look at every box's content; it is kept for the next time. */
async function lookAtCrops(): Promise<void> {
  looking.value = true;
  try {
    const started = await take(
      api.POST("/api/v1/projects/{project_id}/crop-looks", { params: { path: { project_id: store.id } } }),
    );
    const ended = await store.ended(started.job.id);
    if (ended.state === "done") {
      await load();
      leftUnseen = unseen.value;
    } else complain(new Error(ended.message));
  } catch (error) {
    complain(error);
  } finally {
    looking.value = false;
  }
}

function scrolled(): void {
  const top = frame.value?.scrollTop ?? 0;
  sessionStorage.setItem(memory.value, JSON.stringify({ top, count: crops.value.length }));
  const rest = (frame.value?.scrollHeight ?? 0) - top - (frame.value?.clientHeight ?? 0);
  if (rest < 600 && crops.value.length < total.value) void load(true);
}

function toggle(index: number, event: MouseEvent | KeyboardEvent): void {
  const on = !chosen.has(crops.value[index]!.id);
  const range =
    event.shiftKey && lastChosen >= 0 ? [Math.min(lastChosen, index), Math.max(lastChosen, index)] : [index, index];
  for (const crop of crops.value.slice(range[0], range[1]! + 1)) {
    if (on) chosen.add(crop.id);
    else chosen.delete(crop.id);
  }
  lastChosen = focused.value = index;
}

/** Give the chosen boxes another class, or delete them where it is null. */
async function turn(classId: number | null): Promise<void> {
  const ids = chosen.size ? [...chosen] : focused.value >= 0 ? [crops.value[focused.value]!.id] : [];
  if (!ids.length || classId === props.classId) return;
  if (classId !== null) classWasUsed(store.id, classId);
  try {
    const params = { path: { project_id: store.id } };
    const body = { ids, class_id: classId };
    const made = await store.madeBy(
      "change_boxes",
      take(api.POST("/api/v1/projects/{project_id}/boxes", { params, body })),
    );
    await again();
    store.sayChange(made.title, made.change_id, again);
  } catch (error) {
    complain(error);
  }
}

const finding = ref(false);
const numbers = classNumbers(() => store.classes);
let waits = 0;

/** A digit of a class's number: where a second one can follow, it is waited for. */
function turnInto(digit: string): void {
  const found = numbers.read(digit);
  window.clearTimeout(waits);
  if (!found) return;
  if (numbers.begun()) waits = window.setTimeout(() => void turn(found.id), SOON);
  else void turn(found.id);
}
onBeforeUnmount(() => window.clearTimeout(waits));

/** What boxes are turned into with one click: the classes used last. */
const offered = computed(() => {
  const others = store.classes.filter((each) => each.id !== props.classId);
  return classesLike(others, "", classesUsed(store.id));
});

async function again(): Promise<void> {
  chosen.clear();
  const top = frame.value?.scrollTop ?? 0;
  const many = crops.value.length;
  await Promise.all([load(), store.loadClasses(), store.refresh()]);
  while (crops.value.length < Math.min(many, total.value)) await load(true);
  await nextTick();
  frame.value?.scrollTo(0, top);
}

function open(index: number): void {
  const crop = crops.value[index];
  if (crop)
    void router.push({
      path: `/project/${store.id}/collect/${crop.picture_id}`,
      query: { from: route.fullPath, box: crop.corners.join() },
    });
}

function columns(): number {
  const sheet = frame.value?.querySelector(".sheet");
  return sheet ? getComputedStyle(sheet).gridTemplateColumns.split(" ").length : 1;
}

async function move(step: number): Promise<void> {
  focused.value = Math.min(Math.max(focused.value + step, 0), crops.value.length - 1);
  await nextTick();
  const tile = frame.value?.querySelector<HTMLElement>(`[data-place="${focused.value}"]`);
  tile?.scrollIntoView({ block: "nearest" });
  tile?.focus({ preventScroll: true });
}

function value(crop: Crop): string {
  const [x1, y1, x2, y2] = crop.corners;
  if (order.value === "strange") return crop.value.toFixed(2);
  if (order.value === "brightness") return `${Math.round(100 * crop.value)} %`;
  if (order.value === "shape") return `${crop.value.toFixed(2)} : 1`;
  return `${Math.round(x2 - x1)}×${Math.round(y2 - y1)}`;
}

useKeys([
  { keys: ["ArrowRight"], label: "Next box", run: () => move(1) },
  { keys: ["ArrowLeft"], label: "Previous box", run: () => move(-1) },
  { keys: ["ArrowDown"], label: "Row down", hidden: true, run: () => move(columns()) },
  { keys: ["ArrowUp"], label: "Row up", hidden: true, run: () => move(-columns()) },
  {
    keys: ["x", "Shift+x"],
    label: "Select the box in focus; with Shift all up to it",
    run: (event) => focused.value >= 0 && toggle(focused.value, event),
  },
  {
    keys: ["1", "2", "3", "4", "5", "6", "7", "8", "9"],
    label: "Turn the selected boxes into a class",
    run: (event) => turnInto(event.key),
  },
  {
    keys: ["0"],
    label: "Turn them into class 10, 20, …",
    hidden: true,
    run: () => numbers.begun() && turnInto("0"),
  },
  { keys: ["/"], label: "Find a class by its name", run: () => (finding.value = true) },
  { keys: ["Delete"], label: "Delete the selected boxes", run: () => turn(null) },
  { keys: ["Enter"], label: "Open the picture of the box in focus", run: () => open(focused.value) },
  { keys: ["Escape"], label: "Clear selection", run: () => chosen.clear() },
]);
</script>

<template>
  <div class="side">
    <div class="head">
      <el-select v-model="order" size="small" aria-label="Order" style="width: 190px" data-test="sheet-order">
        <el-option v-for="each in orders" :key="each.value" :value="each.value" :label="each.label" />
      </el-select>
      <el-button size="small" :aria-label="descending ? 'Descending' : 'Ascending'" @click="descending = !descending">{{
        descending ? "↓" : "↑"
      }}</el-button>
      <el-select v-model="origin" clearable placeholder="Any origin" size="small" aria-label="Origin" class="origin">
        <el-option v-for="each in ORIGINS" :key="each.value" :value="each.value" :label="each.label" />
      </el-select>
      <span class="soft">{{ count(total, "box", "boxes") }}</span>
      <span v-if="looking" class="soft" role="status">Looking at the boxes' content</span>
      <span class="spread" />
      <template v-if="chosen.size">
        <b data-test="sheet-chosen">{{ chosen.size }} selected</b>
        <span class="soft">Turn into</span>
        <el-button
          v-for="each in offered.slice(0, 5)"
          :key="each.id"
          size="small"
          :data-test="`turn-${each.name}`"
          @click="turn(each.id)"
          >{{ each.name }}</el-button
        >
        <el-button
          v-if="offered.length > 5"
          v-hint="'Find a class by its name'"
          size="small"
          data-test="find-class"
          @click="finding = true"
          >Other class</el-button
        >
        <el-button size="small" data-test="delete-chosen" @click="turn(null)">Delete</el-button>
        <el-button size="small" link type="primary" @click="chosen.clear()">Clear selection</el-button>
      </template>
      <span v-else class="soft">Click to select, double-click to open</span>
    </div>
    <ClassPicker v-model:open="finding" title="Turn the selected boxes into" :without="classId" @pick="turn" />
    <p v-if="failed" class="notice bad">
      {{ failed }} <el-button link type="primary" @click="load()">Try again</el-button>
    </p>
    <p v-else-if="!total" class="none soft">No box has this class.</p>
    <div v-else ref="frame" class="frame" data-test="sheet" @scroll.passive="scrolled">
      <div class="sheet">
        <CropTile
          v-for="(crop, index) in crops"
          :key="crop.id"
          :data-place="index"
          :crop="crop"
          :chosen="chosen.has(crop.id)"
          :focused="index === focused"
          :value="value(crop)"
          @click="toggle(index, $event)"
          @dblclick="open(index)"
          @open="open(index)" />
      </div>
    </div>
  </div>
</template>

<style scoped>
.origin {
  width: 150px;
}
.side {
  display: flex;
  flex-direction: column;
  min-height: 0;
  min-width: 0;
}
.head {
  display: flex;
  gap: 8px;
  align-items: center;
  padding: 9px 16px;
  border-bottom: 1px solid var(--rule);
  min-height: 46px;
  white-space: nowrap;
}
.head :deep(.el-button) {
  margin: 0;
}
.spread {
  flex: 1;
}
.frame {
  flex: 1;
  min-height: 0;
  overflow: auto;
  padding: 14px 16px;
}
.sheet {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(104px, 1fr));
  gap: 10px;
}
.none {
  padding: 60px;
  text-align: center;
}
</style>
