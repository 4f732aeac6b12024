<script setup lang="ts">
/** A value that is white in pictures of more than 8 bits: one of the usual ones, any other, or what is found out. */
import { whole } from "@/parts/format";

const white = defineModel<number | null>({ required: true });
defineProps<{ automatic: string }>();

/** Of 8, 10, 12, 14 and 16 bits. */
const USUAL = [8, 10, 12, 14, 16].map((bits) => ({ bits, value: 2 ** bits - 1 }));
const AUTOMATIC = "automatic";

function choose(value: string | number): void {
  const number = Number(value);
  if (value === AUTOMATIC) white.value = null;
  else if (Number.isFinite(number) && number > 0) white.value = number;
}
</script>

<template>
  <el-select
    :model-value="white ?? AUTOMATIC"
    filterable
    allow-create
    default-first-option
    size="small"
    style="width: 230px"
    aria-label="White"
    data-test="white"
    @update:model-value="choose">
    <el-option :value="AUTOMATIC" :label="automatic" />
    <el-option :value="1" label="1, floating-point numbers" />
    <el-option
      v-for="each in USUAL"
      :key="each.bits"
      :value="each.value"
      :label="`${whole(each.value)}, ${each.bits} bits`" />
  </el-select>
</template>
