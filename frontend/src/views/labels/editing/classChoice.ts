/** Which boxes a digit gives its class to: new ones, those selected by hand, not one that was just drawn. */
import { computed, type Ref, ref } from "vue";

import type { ObjectClass } from "@/api/client";
import { classNumbers } from "@/state/classNumbers";
import { say } from "@/state/notes";

export interface ClassChoiceOptions {
  classes: () => readonly ObjectClass[];
  /** Load the classes anew. */
  renewed: () => Promise<void>;
  /** Places of the selected boxes. */
  selection: Ref<number[]>;
  /** The class of new boxes from now on. */
  ofNew: (classId: number) => void;
  ofSelected: (classId: number) => void;
}

export function useClassChoice({ classes, renewed, selection, ofNew, ofSelected }: ClassChoiceOptions) {
  const numbers = classNumbers(classes);
  /** Place of the box that was just drawn, until it is selected by hand. */
  const drawn = ref(-1);
  const isFresh = computed(() => selection.value.length === 1 && selection.value[0] === drawn.value);

  function choose(classId: number): void {
    ofNew(classId);
    if (!isFresh.value) ofSelected(classId);
  }

  /** A digit of a class's number. */
  function digit(typed: string, use: (classId: number) => void = choose): void {
    const found = numbers.read(typed);
    if (found) use(found.id);
  }

  /** A nought behind another digit belongs to it; says whether it did. */
  function zero(): boolean {
    const belongs = numbers.begun();
    if (belongs) digit("0");
    return belongs;
  }

  /** Classes were merged elsewhere: what was drawn became another one, which goes for new boxes too. */
  async function merged(turned: readonly [number, number][]): Promise<void> {
    const before = new Map(classes().map((each) => [each.id, each.name]));
    await renewed();
    const after = new Map(classes().map((each) => [each.id, each.name]));
    for (const [was, is] of new Map(turned)) {
      ofNew(is);
      say(
        `${before.get(was) ?? "A class"} was merged into ${after.get(is) ?? "another one"} meanwhile; your boxes followed`,
      );
    }
  }

  return { drawn, merged, isFresh, choose, digit, digitOfSelected: (typed: string) => digit(typed, ofSelected), zero };
}
