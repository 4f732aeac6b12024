/** What a model proposes for a picture: outlines that are kept, or refused, one by one or all at once. */
import { computed, type Ref, ref, watch } from "vue";

import { api, type DrawnBox, type Proposal, take } from "@/api/client";
import { count } from "@/parts/format";
import { overlap } from "@/stage/geometry";
import type { Shape } from "@/stage/paint";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo } from "@/state/notes";
import { useProject } from "@/state/project";

/** A box that overlaps a proposal so much stands for it: the proposal is settled. */
const SETTLED = 0.5;

/** Only what is at least so sure is shown; holds for the whole sitting. */
const least = ref(0);

export function useProposals(
  pictureId: number,
  boxes: Ref<DrawnBox[]>,
  selection: Ref<number[]>,
  change: (next: DrawnBox[]) => void,
) {
  const store = useProject();
  const all = ref<Proposal[]>([]);
  const at = ref(0);
  const byName = computed(() => new Map(store.classes.map((each) => [each.name, each])));

  /** Those that nothing stands for yet, from the top of the picture to its foot. */
  const open = computed(() =>
    all.value
      .filter(
        (each) =>
          each.score >= least.value &&
          byName.value.has(each.class_name) &&
          !boxes.value.some((box) => overlap(box.corners, each.corners) >= SETTLED),
      )
      .sort((a, b) => a.corners[1] - b.corners[1] || a.corners[0] - b.corners[0]),
  );
  const unknown = computed(() => all.value.filter((each) => !byName.value.has(each.class_name)).length);
  watch(open, (now) => (at.value = Math.min(at.value, Math.max(0, now.length - 1))));

  const ghosts = computed(() => open.value.map(asBox));
  const shapes = computed<Shape[]>(() =>
    open.value.map((each, index) => ({
      corners: each.corners,
      colour: byName.value.get(each.class_name)!.colour,
      badge: `${byName.value.get(each.class_name)!.position}  ${each.score.toFixed(2)}`,
      ghost: true,
      selected: !selection.value.length && index === at.value,
    })),
  );

  function asBox(each: Proposal): DrawnBox {
    const class_id = byName.value.get(each.class_name)!.id;
    return { class_id, corners: each.corners, crowd: false, attributes: {}, track: null, origin: each.model };
  }

  async function load(): Promise<void> {
    const params = { path: { picture_id: pictureId } };
    try {
      all.value = (await take(api.GET("/api/v1/pictures/{picture_id}/proposals", { params }))).proposals;
    } catch {
      // Without them the picture is labelled as any other.
      all.value = [];
    }
  }

  function step(by: number): false | void {
    if (selection.value.length || !open.value.length) return false;
    at.value = (at.value + by + open.value.length) % open.value.length;
  }
  function keep(some: Proposal[]): false | void {
    if (!some.length) return false;
    change([...boxes.value, ...some.map(asBox)]);
  }
  async function refuse(some: Proposal[], refused = true): Promise<void> {
    const params = { path: { picture_id: pictureId } };
    const body = { numbers: some.map((each) => each.id), refused };
    try {
      const left = await take(api.POST("/api/v1/pictures/{picture_id}/proposals/refused", { params, body }));
      all.value = left.proposals;
      if (refused) sayWithUndo(`${count(some.length, "proposal")} refused`, () => refuse(some, false));
    } catch (error) {
      complain(error);
    }
  }
  const now = (): Proposal[] => (selection.value.length ? [] : open.value.slice(at.value, at.value + 1));
  const those = (some: Proposal[]): false | Promise<void> => (some.length ? refuse(some) : false);
  const ofAll = (): Proposal[] => (selection.value.length ? [] : open.value);

  useKeys([
    { keys: ["ArrowRight"], label: "Keep the proposal", run: () => keep(now()) },
    { keys: ["ArrowLeft"], label: "Refuse the proposal", run: () => those(now()) },
    { keys: ["ArrowDown"], label: "Next proposal", run: () => step(1) },
    { keys: ["ArrowUp"], label: "Previous proposal", run: () => step(-1) },
    { keys: ["Shift+ArrowRight"], label: "Keep all proposals shown", run: () => keep(ofAll()) },
    { keys: ["Shift+ArrowLeft"], label: "Refuse all proposals shown", run: () => those(ofAll()) },
  ]);
  void load();
  return {
    all,
    open,
    unknown,
    least,
    ghosts,
    shapes,
    keepAll: () => keep(open.value),
    refuseAll: () => those(open.value),
  };
}
