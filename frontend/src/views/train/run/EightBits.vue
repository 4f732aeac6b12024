<script setup lang="ts">
/** A run's model in 8 bits: tried on its validation pictures, used where it is quicker here and as precise. */
import { computed, ref } from "vue";

import { api, type Run, take } from "@/api/client";
import { changeRange, count, gap } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";

const props = defineProps<{ run: Run }>();
const emit = defineEmits<{ changed: [] }>();
const store = useProject();
const busy = ref(false);
const path = computed(() => ({ params: { path: { run_id: props.run.id } } }));
const tried = computed(() => props.run.eight_bits);
const rows = computed(() =>
  tried.value
    ? ["32 bits", "8 bits"].map((name, place) => ({
        name,
        map: tried.value!.map[place]?.toFixed(3) ?? "–",
        map50: tried.value!.map50[place]?.toFixed(3) ?? "–",
        milliseconds: tried.value!.milliseconds[place]!.toFixed(1),
        size: `${(tried.value!.size[place]! / 1e6).toFixed(1)}\u00a0MB`,
      }))
    : [],
);

async function tryThem(): Promise<void> {
  if (busy.value || !props.run.has_model) return;
  busy.value = true;
  try {
    await store.outcomeOf("try_eight_bits", take(api.POST("/api/v1/runs/{run_id}/eight-bits", path.value)));
    emit("changed");
  } catch (error) {
    complain(error);
  } finally {
    busy.value = false;
  }
}
async function takeBack(): Promise<void> {
  try {
    await take(api.DELETE("/api/v1/runs/{run_id}/eight-bits", path.value));
    emit("changed");
    sayWithUndo("32 bits are used again", tryThem);
  } catch (error) {
    complain(error);
  }
}
function act(): void {
  void (tried.value?.used ? takeBack() : tryThem());
}

useKeys([{ keys: ["Shift+q"], label: "Quicker in 8 bits, or 32 again", run: act }]);
</script>

<template>
  <section class="bits">
    <h2>In 8 bits</h2>
    <p v-if="!tried" class="soft">
      In whole numbers of 8 bits a model is a quarter of the size, and on most processors quicker. It is tried on the
      validation pictures, and used only where it is quicker here and loses no more than 0.005 mAP, and none at 0.5
      beyond chance.
    </p>
    <template v-else>
      <p data-test="eight-bits-said">{{ tried.said }}.</p>
      <table v-if="tried.pictures" class="figures" data-test="eight-bits">
        <thead>
          <tr>
            <th></th>
            <th>mAP</th>
            <th>at 0.5</th>
            <th>ms a picture</th>
            <th>Size</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in rows" :key="row.name">
            <td>{{ row.name }}</td>
            <td>{{ row.map }}</td>
            <td>{{ row.map50 }}</td>
            <td>{{ row.milliseconds }}</td>
            <td>{{ row.size }}</td>
          </tr>
          <tr>
            <td>Change</td>
            <td>
              {{ gap(...tried.map) }}
              <span class="soft small range">{{ changeRange(...tried.map_change) }}</span>
            </td>
            <td>
              {{ gap(...tried.map50) }}
              <span class="soft small range">{{ changeRange(...tried.map50_change) }}</span>
            </td>
            <td>{{ tried.times.toFixed(1) }} times as quick</td>
            <td></td>
          </tr>
        </tbody>
      </table>
      <p class="soft small">
        Of {{ count(tried.pictures, "validation picture") }}, with the range in which the change lies 95 of 100 times;
        the network alone, one picture at a time, on this machine.
      </p>
    </template>
    <div>
      <el-button
        v-hint="'Quicker in 8 bits, or 32 again'"
        size="small"
        :loading="busy"
        :disabled="!run.has_model"
        data-test="eight-bits-act"
        @click="act"
        >{{ tried?.used ? "Use 32 bits again" : tried ? "Try 8 bits again" : "Try 8 bits" }}</el-button
      >
    </div>
  </section>
</template>

<style scoped>
.bits {
  display: grid;
  gap: 8px;
  min-width: 0;
  padding-top: 12px;
}
td,
th {
  padding: 3px 10px 3px 0 !important;
}
.small {
  font-size: 13px;
}
.range {
  display: block;
}
</style>
