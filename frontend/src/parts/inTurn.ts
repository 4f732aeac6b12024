/** Pictures of a long list come a few at a time: a browser keeps few connections, and what a person clicks needs one. */
import { type Ref, ref, watch } from "vue";

/** As many as a server of two cores has work for; four connections stay free. */
const AT_ONCE = 2;

export function useTurns(list: Readonly<Ref<readonly unknown[]>>) {
  const come = ref(0);
  /** Belongs into the keys of the list: one that is shown anew begins anew. */
  const round = ref(0);
  watch(list, () => {
    come.value = 0;
    round.value += 1;
  });

  return {
    round,
    /** Whether the one at a place may be fetched. */
    may: (place: number): boolean => place < come.value + AT_ONCE,
    /** One has come, or never will. */
    next: (): void => void (come.value += 1),
  };
}
