<script setup lang="ts">
/** The frame of a clip as a layer of the stage: what has come of it, and the whole one once somebody stays. */
import { onBeforeUnmount, ref, watch } from "vue";

const props = defineProps<{
  size: { width: number; height: number };
  frame: number;
  /** The frame as it was fetched; none while it is on its way. */
  bitmap: ImageBitmap | undefined;
  /** Changes with what is to be drawn, so that a bitmap that came is drawn at once. */
  version: number;
  /** Where the whole frame is, if the bitmap is a smaller one. */
  whole: string;
  placed: Record<string, string>;
}>();
const emit = defineEmits<{ drawn: [] }>();

const canvas = ref<HTMLCanvasElement>();
const STAYS = 200;
let timer = 0;

function draw(picture: CanvasImageSource): void {
  canvas.value?.getContext("2d")?.drawImage(picture, 0, 0, props.size.width, props.size.height);
  emit("drawn");
}

watch(
  [() => props.bitmap, () => props.version, canvas],
  () => {
    if (!canvas.value || !props.bitmap) return;
    draw(props.bitmap);
    canvas.value.dataset.drawn = String(props.frame);
    window.clearTimeout(timer);
    if (props.whole) timer = window.setTimeout(() => void drawWhole(props.whole), STAYS);
  },
  { flush: "post" },
);

async function drawWhole(address: string): Promise<void> {
  const picture = new Image();
  picture.src = address;
  try {
    await picture.decode();
  } catch {
    // The smaller one stays.
    return;
  }
  if (address === props.whole) draw(picture);
}

onBeforeUnmount(() => window.clearTimeout(timer));
</script>

<template>
  <canvas
    ref="canvas"
    class="frame"
    data-test="frame-picture"
    :width="size.width"
    :height="size.height"
    :style="placed" />
</template>

<style scoped>
.frame {
  position: absolute;
  left: 0;
  top: 0;
  transform-origin: 0 0;
  display: block;
}
</style>
