<script setup lang="ts">
/** A dark stage that a picture fills as far as its shape allows; what lies over it has the picture's own size. */
defineProps<{ width?: number; height?: number }>();
</script>

<template>
  <div class="stage">
    <div v-if="width && height" class="frame" :style="{ '--ratio': width / height }"><slot /></div>
    <slot name="beside" />
  </div>
</template>

<style scoped>
.stage {
  position: relative;
  background: var(--stage);
  color: var(--stage-ink);
  display: grid;
  place-items: center;
  min-height: 0;
  container-type: size;
}
.frame {
  position: relative;
  width: min(100cqw, calc(100cqh * var(--ratio)));
  aspect-ratio: var(--ratio);
}
.frame :slotted(img),
.frame :slotted(video) {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  display: block;
}
</style>
