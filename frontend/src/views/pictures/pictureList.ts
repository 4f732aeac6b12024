/** The pictures that a filter leaves, loaded page by page as they come into sight. */
import { computed, type Ref, ref, shallowRef, triggerRef } from "vue";

import { api, type Picture, type PictureState, type Part, take } from "@/api/client";
import type { Origin } from "@/parts/origins";
import { wordsOf } from "@/state/notes";

export const PAGE = 120;

export interface PictureQuery {
  state?: PictureState;
  part?: Part;
  class_id?: number;
  name?: string;
  binned?: boolean;
  source?: string;
  attribute?: string;
  origin?: Origin;
  tag?: string;
  unassigned?: boolean;
  order?: "added" | "name" | "boxes" | "labelled" | "size";
  descending?: boolean;
}

export function usePictureList(projectId: () => number, query: Ref<PictureQuery>) {
  const total = ref(0);
  const loading = ref(true);
  const failed = ref("");
  const pages = shallowRef(new Map<number, Picture[]>());
  const wanted = new Set<number>();
  let turn = 0;
  /** First and last page in sight. */
  let sight: [number, number] = [0, 0];

  /** Load anew: from the start, or only what is in sight while the rest is forgotten. */
  async function reload(fresh: boolean): Promise<void> {
    turn += 1;
    wanted.clear();
    loading.value = true;
    if (fresh) sight = [0, 0];
    const [first, last] = sight;
    pages.value = new Map([...pages.value].filter(([page]) => !fresh && page >= first && page <= last));
    await Promise.all(Array.from({ length: last - first + 1 }, (_, index) => load(first + index, true)));
    loading.value = false;
  }

  async function load(page: number, again = false): Promise<void> {
    if ((!again && pages.value.has(page)) || wanted.has(page)) return;
    const mine = turn;
    wanted.add(page);
    // By the key of the page before where it is known, else by counting from the beginning.
    const before = again ? undefined : pages.value.get(page - 1)?.at(-1);
    const place = before ? { after: before.id } : { skip: page * PAGE };
    try {
      const found = await take(
        api.GET("/api/v1/projects/{project_id}/pictures", {
          params: {
            path: { project_id: projectId() },
            query: { ...query.value, ...place, limit: PAGE, counted: again },
          },
        }),
      );
      if (mine !== turn) return;
      pages.value.set(page, found.pictures);
      triggerRef(pages);
      if (found.total !== null) total.value = found.total;
      failed.value = "";
    } catch (error) {
      if (mine === turn) failed.value = wordsOf(error);
    } finally {
      wanted.delete(page);
    }
  }

  function at(index: number): Picture | undefined {
    return pages.value.get(Math.floor(index / PAGE))?.[index % PAGE];
  }

  /** Load what lies between two places, both included. */
  function need(first: number, last: number): void {
    sight = [Math.floor(first / PAGE), Math.floor(Math.max(first, last) / PAGE)];
    for (let page = sight[0]; page <= sight[1]; page += 1) void load(page);
  }

  async function allIds(): Promise<number[]> {
    const path = { project_id: projectId() };
    return (await take(api.GET("/api/v1/projects/{project_id}/picture-ids", { params: { path, query: query.value } })))
      .ids;
  }

  const filtered = computed(() => {
    const { order: _order, descending: _descending, binned: _binned, ...rest } = query.value;
    return Object.values(rest).some(Boolean);
  });

  return { total, loading, failed, filtered, reload, at, need, allIds };
}
