/** Where the picture lies on the screen: fit, zoom about a point, pan. */
import { computed, type Ref, ref } from "vue";

import type { Point } from "@/stage/geometry";

const LARGEST_SCALE = 40;

export function useViewport(
  picture: Ref<{ width: number; height: number }>,
  screen: Ref<{ width: number; height: number }>,
) {
  const scale = ref(1);
  const left = ref(0);
  const top = ref(0);
  const fitted = ref(true);

  const fitScale = computed(() =>
    Math.min(
      Math.max(1, screen.value.width - 24) / Math.max(1, picture.value.width),
      Math.max(1, screen.value.height - 24) / Math.max(1, picture.value.height),
    ),
  );

  function fit(): void {
    scale.value = fitScale.value;
    left.value = (screen.value.width - picture.value.width * scale.value) / 2;
    top.value = (screen.value.height - picture.value.height * scale.value) / 2;
    fitted.value = true;
  }

  /** Zoom by a factor, the picture point under `at` (screen pixels) staying where it is. */
  function zoom(factor: number, at: Point = { x: screen.value.width / 2, y: screen.value.height / 2 }): void {
    const fixed = toPicture(at);
    scale.value = Math.min(Math.max(scale.value * factor, fitScale.value / 4), LARGEST_SCALE);
    left.value = at.x - fixed.x * scale.value;
    top.value = at.y - fixed.y * scale.value;
    fitted.value = false;
  }

  /** Move by screen pixels, but never so far that the picture is out of sight. */
  function pan(dx: number, dy: number): void {
    const keep = 60;
    left.value = Math.min(
      Math.max(left.value + dx, keep - picture.value.width * scale.value),
      screen.value.width - keep,
    );
    top.value = Math.min(
      Math.max(top.value + dy, keep - picture.value.height * scale.value),
      screen.value.height - keep,
    );
    fitted.value = false;
  }

  function toPicture({ x, y }: Point): Point {
    return { x: (x - left.value) / scale.value, y: (y - top.value) / scale.value };
  }

  return { scale, left, top, fitted, fit, zoom, pan, toPicture };
}
