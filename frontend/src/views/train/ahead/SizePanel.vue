<script setup lang="ts">
/** What each size costs here, layer by layer; and which side the boxes ask for. */
import { computed, onMounted, ref, watch } from "vue";

import type { Plan } from "@/api/client";
import { CONSTANTS } from "@/api/declared";
import { capital, count } from "@/parts/format";
import { type Draft, lookAhead, type Seen } from "@/views/train/ahead/runSettings";
import { sideAdvice, sideTrial } from "@/views/train/ahead/sideAdvice";
import { wordsOf } from "@/state/notes";

const props = defineProps<{ plan: Plan; draft: Draft; trialEpochs: number; busy: boolean }>();
defineEmits<{ tryBoth: [] }>();

const sizes = ref<Seen<"sizes">["sizes"] | null>(null);
const measuredAt = ref(0);
const measuring = ref(false);
const failed = ref("");
const chosen = computed(() => sizes.value?.[props.draft.settings.size]);

async function measure(): Promise<void> {
  if (measuring.value) return;
  measuring.value = true;
  failed.value = "";
  try {
    const found = await lookAhead(props.draft, "sizes");
    sizes.value = found.sizes;
    measuredAt.value = found.side;
  } catch (error) {
    failed.value = wordsOf(error);
  } finally {
    measuring.value = false;
  }
}
onMounted(measure);
watch(() => props.draft.settings.side, measure);

const trial = computed(() => sideTrial(props.plan, props.draft.settings.side ?? props.plan.side));
const sides = computed(() => props.plan.sides);
const millions = (value: number): string =>
  (value / 1e6).toLocaleString("en", { maximumFractionDigits: value < 1e7 ? 2 : 0 });
const megabytes = (value: number): string => `${(value / 1e6).toFixed(0)} MB`;
</script>

<template>
  <div class="panel" data-test="size-panel">
    <table class="figures">
      <thead>
        <tr>
          <th>Size</th>
          <th class="number">Parameters</th>
          <th class="number">Multiply-adds</th>
          <th class="number">Time a picture</th>
          <th class="number">Activation memory</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(parameters, name) in plan.parameters" :key="name" :class="{ chosen: name === draft.settings.size }">
          <td>
            <button type="button" class="plain" @click="draft.settings.size = name as typeof draft.settings.size">
              {{ capital(String(name)) }}
            </button>
          </td>
          <td class="number">{{ millions(parameters) }} M</td>
          <td class="number">{{ sizes?.[name] ? `${millions(sizes[name].multiply_adds)} M` : "–" }}</td>
          <td class="number" data-test="milliseconds">
            {{ sizes?.[name] ? `${sizes[name].milliseconds.toFixed(0)} ms` : "–" }}
          </td>
          <td class="number">{{ sizes?.[name] ? megabytes(sizes[name].activations) : "–" }}</td>
        </tr>
      </tbody>
    </table>
    <p class="soft small">
      <template v-if="measuring">Measuring on this machine…</template>
      <template v-else-if="failed"
        ><span class="bad">{{ failed }}</span></template
      >
      <template v-else
        >Measured on this machine with a square picture of side {{ measuredAt }}; times vary while other work runs.
      </template>
      <el-button v-if="!measuring" link type="primary" @click="measure">Measure again</el-button>
    </p>

    <h3>Which side?</h3>
    <p data-test="side-advice">{{ sideAdvice(plan, draft.settings.side ?? plan.side) }}</p>
    <p v-if="trial && !plan.obstacles.length" class="trial">
      <el-button
        v-hint="'Compare both sides'"
        size="small"
        :disabled="busy"
        data-test="try-sides"
        @click="$emit('tryBoth')"
        >Compare sides {{ trial[0] }} and {{ trial[1] }}</el-button
      >
      <span class="soft small"
        >Starts two short runs of {{ count(trialEpochs, "epoch") }} each; Runs shows which finds more.</span
      >
    </p>
    <table class="figures sides">
      <thead>
        <tr>
          <th>Side</th>
          <th>Boxes under {{ CONSTANTS.resolved }} px</th>
          <th class="number">Time against now</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in sides" :key="each.side" :class="{ chosen: each.side === draft.settings.side }">
          <td>
            <button type="button" class="plain" @click="draft.settings.side = each.side">{{ each.side }}</button>
          </td>
          <td class="bar">
            <i :style="{ width: `${Math.round(160 * each.small)}px` }" />{{
              plan.sized ? `${(100 * each.small).toFixed(1)} %` : "–"
            }}
          </td>
          <td class="number">{{ each.cost.toFixed(2) }} ×</td>
        </tr>
      </tbody>
    </table>

    <details v-if="chosen">
      <summary>{{ capital(draft.settings.size) }} layer by layer</summary>
      <table class="figures layers">
        <thead>
          <tr>
            <th>Layer</th>
            <th>Kind</th>
            <th>Output</th>
            <th class="number">Parameters</th>
            <th class="number">Multiply-adds</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="each in chosen.layers" :key="each.name">
            <td>{{ each.name }}</td>
            <td>{{ each.kind }}</td>
            <td>{{ each.output.join(" × ") }}</td>
            <td class="number">{{ each.parameters.toLocaleString("en") }}</td>
            <td class="number">{{ millions(each.multiply_adds) }} M</td>
          </tr>
        </tbody>
      </table>
    </details>
  </div>
</template>

<style scoped>
.panel {
  display: grid;
  gap: 10px;
}
h3 {
  margin-top: 8px;
}
.small {
  font-size: 13px;
}
.trial {
  display: flex;
  align-items: center;
  gap: 10px;
}
.plain {
  border: 0;
  background: none;
  padding: 0;
  color: var(--leg-deep);
  text-decoration: underline;
  cursor: pointer;
}
tr.chosen td {
  background: var(--leg-pale);
}
.sides td,
.layers td {
  padding-top: 3px;
  padding-bottom: 3px;
}
.bar i {
  display: inline-block;
  height: 9px;
  background: var(--sand);
  margin-right: 8px;
}
summary {
  cursor: pointer;
  color: var(--leg-deep);
}
</style>
