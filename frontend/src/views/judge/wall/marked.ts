/** Truths and predictions of the pictures in sight, fetched together and kept up to date with the thresholds. */
import { ref, shallowRef, watch } from "vue";

import { api, type MarkedPicture, take } from "@/api/client";
import { complain } from "@/state/notes";
import { latestOnly } from "@/views/judge/figures/thresholds";

const MOST = 200;

/** Every picture of a measurement with its counts at two thresholds. */
export const wallOf = (evaluationId: number, minimumScore: number, overlapLimit: number) =>
  take(
    api.GET("/api/v1/evaluations/{evaluation_id}/pictures", {
      params: {
        path: { evaluation_id: evaluationId },
        query: { minimum_score: minimumScore, overlap_limit: overlapLimit },
      },
    }),
  );

export interface Wanted {
  evaluationId: number | undefined;
  minimumScore: number;
  overlapLimit: number;
}

export function useMarked(wanted: () => Wanted) {
  const boxes = shallowRef(new Map<number, MarkedPicture>());
  const names = ref<string[]>([]);
  const visible = new Set<number>();
  /** Whose boxes are those of the thresholds as they stand; the others are shown until theirs arrive. */
  const fresh = new Set<number>();

  const fetchBoxes = latestOnly(async () => {
    // Pictures come into sight one by one, in one turn of the page.
    await new Promise((resolve) => window.setTimeout(resolve, 20));
    const asked = wanted();
    const ids = [...visible].filter((id) => !fresh.has(id)).slice(0, MOST);
    if (!ids.length || asked.evaluationId === undefined) return;
    try {
      const found = await take(
        api.GET("/api/v1/evaluations/{evaluation_id}/marked", {
          params: {
            path: { evaluation_id: asked.evaluationId },
            query: { picture_ids: ids, minimum_score: asked.minimumScore, overlap_limit: asked.overlapLimit },
          },
        }),
      );
      if (!same(asked, wanted())) return;
      for (const id of ids) fresh.add(id);
      names.value = found.class_names;
      boxes.value = new Map([...boxes.value, ...found.pictures.map((each) => [each.picture_id, each] as const)]);
    } catch (error) {
      complain(error);
    }
  });

  function see(id: number, now: boolean): void {
    if (!now) visible.delete(id);
    else {
      visible.add(id);
      if (!fresh.has(id)) fetchBoxes();
    }
  }

  watch(wanted, (now, before) => {
    if (same(now, before)) return;
    fresh.clear();
    if (now.evaluationId !== before.evaluationId) boxes.value = new Map();
    fetchBoxes();
  });

  return { boxes, names, see };
}

function same(a: Wanted, b: Wanted): boolean {
  return a.evaluationId === b.evaluationId && a.minimumScore === b.minimumScore && a.overlapLimit === b.overlapLimit;
}
