<script setup lang="ts">
/** The chosen box: its size here and in the network's input, and its attributes. */
import { computed } from "vue";

import { useProject } from "@/state/project";
import { inputSide, LEARNABLE } from "@/state/remembered";
import type { DrawnBox } from "@/api/client";
import { originWords } from "@/parts/origins";
import AttributeFields from "@/views/labels/AttributeFields.vue";

const props = defineProps<{ box: DrawnBox; others: number; size: { width: number; height: number } }>();
const emit = defineEmits<{ attribute: [name: string, value: unknown] }>();
const store = useProject();

const sides = computed(() => {
  const [x1, y1, x2, y2] = props.box.corners;
  const scale = inputSide.value / Math.max(props.size.width, props.size.height);
  return { width: x2 - x1, height: y2 - y1, inputWidth: (x2 - x1) * scale, inputHeight: (y2 - y1) * scale };
});
const small = computed(() => Math.min(sides.value.inputWidth, sides.value.inputHeight) < LEARNABLE);
const origin = computed(() => originWords(props.box.origin));
/** Attributes that came with a file and are not among the project's own. */
const foreign = computed(() =>
  Object.entries(props.box.attributes).filter(([name]) => !store.attributes.some((each) => each.name === name)),
);

function shown(value: number): string {
  return String(Math.round(value * 10) / 10);
}
</script>

<template>
  <section class="details" data-test="box-details">
    <dl>
      <dt>In the picture</dt>
      <dd>{{ shown(sides.width) }} × {{ shown(sides.height) }} px</dd>
      <dt>At side {{ inputSide }}</dt>
      <dd :class="{ bad: small }">{{ shown(sides.inputWidth) }} × {{ shown(sides.inputHeight) }} px</dd>
      <template v-if="origin">
        <dt>Origin</dt>
        <dd data-test="origin">{{ origin }}</dd>
      </template>
    </dl>
    <p v-if="small" class="bad note">Under {{ LEARNABLE }} pixels: hardly learnt at this side</p>
    <p v-if="others" class="soft note">and {{ others }} more selected</p>
    <AttributeFields
      :class-id="box.class_id"
      :values="box.attributes"
      @attribute="(name, value) => emit('attribute', name, value)" />
    <p v-for="[name, value] in foreign" :key="name" class="foreign soft">
      {{ name }}<template v-if="value !== true">: {{ value }}</template>
      <el-button link type="primary" size="small" @click="emit('attribute', name, null)">Remove</el-button>
    </p>
  </section>
</template>

<style scoped>
.details {
  padding: 10px 12px;
  border-bottom: 1px solid var(--rule);
  font-size: 14px;
}
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 2px 10px;
  margin: 0 0 4px;
}
dt {
  color: var(--ink-soft);
}
dd {
  margin: 0;
  text-align: right;
}
.note {
  font-size: 13px;
}
.attribute {
  display: flex;
  align-items: center;
  justify-content: space-between;
  min-height: 26px;
}
.foreign {
  display: flex;
  align-items: center;
  justify-content: space-between;
  min-height: 26px;
}
</style>
