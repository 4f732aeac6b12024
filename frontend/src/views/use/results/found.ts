/** What a detection run has found, with the limits that are set now: pictures by place, in windows fetched as they are needed. */
import { computed, type ComputedRef, onBeforeUnmount, reactive, type Ref, ref, shallowReactive, watch } from "vue";

import { api, type FoundPicture, take, type Timeline } from "@/api/client";
import { complain } from "@/state/notes";

/** Pictures fetched at once. */
const WINDOW = 120;
/** Milliseconds for which a slider must stand still. */
const STILL = 120;

export type Sort = "as they came" | "most boxes" | "least sure" | "surest";

export interface Limits {
  /** Null: the run's own, of each class. */
  minimum_score: number | null;
  /** Null: the run's own. */
  overlap_limit: number | null;
  only: string[];
}

export interface Found {
  limits: Limits;
  timeline: Ref<Timeline | null>;
  query: ComputedRef<{ minimum_score?: number; overlap_limit?: number; only: string }>;
  /** The picture at a place, or undefined until it was fetched; asks for what lies around it. */
  at: (place: number) => FoundPicture | undefined;
}

export function useFound(detectionId: number): Found {
  const limits = reactive<Limits>({ minimum_score: null, overlap_limit: null, only: [] });
  const timeline = ref<Timeline | null>(null);
  const rows = shallowReactive(new Map<number, FoundPicture>());
  const asked = new Set<number>();
  let version = 0;
  let timer = 0;

  const query = computed(() => ({
    ...(limits.minimum_score === null ? {} : { minimum_score: limits.minimum_score }),
    ...(limits.overlap_limit === null ? {} : { overlap_limit: limits.overlap_limit }),
    only: limits.only.join("\n"),
  }));
  const path = { detection_id: detectionId };

  async function load(): Promise<void> {
    const mine = ++version;
    asked.clear();
    try {
      const told = await take(
        api.GET("/api/v1/detections/{detection_id}/timeline", { params: { path, query: query.value } }),
      );
      if (mine !== version) return;
      const shown = [...rows.keys()];
      timeline.value = told;
      // What is on screen is asked for anew and shown with its former boxes until then.
      for (const start of new Set(shown.map((place) => Math.floor(place / WINDOW)))) void window(start, mine);
    } catch (error) {
      complain(error);
    }
  }

  async function window(number: number, mine: number): Promise<void> {
    if (asked.has(number)) return;
    asked.add(number);
    try {
      const some = await take(
        api.GET("/api/v1/detections/{detection_id}/pictures", {
          params: { path, query: { ...query.value, start: number * WINDOW, count: WINDOW } },
        }),
      );
      if (mine !== version) return;
      for (const each of some.pictures) rows.set(each.place, each);
    } catch (error) {
      asked.delete(number);
      complain(error);
    }
  }

  function at(place: number): FoundPicture | undefined {
    const number = Math.floor(place / WINDOW);
    for (const near of [number, Math.floor((place + WINDOW / 2) / WINDOW)])
      if (timeline.value && near * WINDOW < timeline.value.pictures) void window(near, version);
    return rows.get(place);
  }

  watch(
    query,
    () => {
      clearTimeout(timer);
      timer = setTimeout(() => void load(), STILL) as unknown as number;
    },
    { deep: true },
  );
  onBeforeUnmount(() => clearTimeout(timer));
  void load();
  return { limits, timeline, query, at };
}
