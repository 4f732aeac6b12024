/** Choices of the person that the browser remembers. */
import { type Ref, ref, watch } from "vue";

import { CONSTANTS } from "@/api/declared";

export function remembered<T extends object | number | string | boolean>(name: string, first: T): Ref<T> {
  const value = ref(first) as Ref<T>;
  try {
    const kept = JSON.parse(localStorage.getItem(`avocet.${name}`) ?? "null") as T | null;
    if (kept !== null && typeof kept === typeof first) {
      value.value = typeof first === "object" ? { ...first, ...(kept as object) } : kept;
    }
  } catch {
    // What cannot be read is forgotten.
  }
  watch(value, (now) => localStorage.setItem(`avocet.${name}`, JSON.stringify(now)), { deep: true });
  return value;
}

/** The network's input side that sizes are judged by, in pixels. */
export const inputSide = remembered("side", CONSTANTS.side);

/** The shorter side under which a box is hardly learnt, in input pixels. */
export const LEARNABLE = CONSTANTS.learnable;
