/** The pictures that a filter leaves, loaded page by page as they come into sight. */
import { computed, type Ref, ref, shallowRef, triggerRef } from "vue";

import { api, type Picture, type PictureState, type Part, take } from "@/api/client";

export const PAGE = 120;

export interface PictureQuery {
  state?: PictureState;
  part?: Part;
  class_id?: number;
  name?: string;
  binned?: boolean;
  source?: string;
  attribute?: string;
  tag?: string;
  no_part?: boolean;
  order?: "added" | "name" | "boxes" | "labelled" | "size";
  falling?: boolean;
}

export function usePictureList(projectId: () => number, query: Ref<PictureQuery>) {
  const total = ref(0);
  const loading = ref(true);
  const failed = ref("");
  const pages = shallowRef(new Map<number, Picture[]>());
  const wanted = new Set<number>();
  let turn = 0;

  /** Forget nothing, but load anew what is in sight; the first page comes at once. */
  async function reload(fresh: boolean): Promise<void> {
    turn += 1;
    wanted.clear();
    loading.value = true;
    const known = fresh ? [0] : [...pages.value.keys()];
    if (fresh) pages.value = new Map();
    await Promise.all((known.length ? known : [0]).map((page) => load(page, true)));
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
          params: { path: { project_id: projectId() }, query: { ...query.value, ...place, limit: PAGE, counted: again } },
        }),
      );
      if (mine !== turn) return;
      pages.value.set(page, found.pictures);
      triggerRef(pages);
      if (found.total !== null) total.value = found.total;
      failed.value = "";
    } catch (error) {
      if (mine === turn) failed.value = (error as Error).message;
    } finally {
      wanted.delete(page);
    }
  }

  function at(index: number): Picture | undefined {
    return pages.value.get(Math.floor(index / PAGE))?.[index % PAGE];
  }

  /** Load what lies between two places, both included. */
  function need(first: number, last: number): void {
    for (let page = Math.floor(first / PAGE); page <= Math.floor(Math.max(first, last) / PAGE); page += 1) void load(page);
  }

  async function allIds(): Promise<number[]> {
    const path = { project_id: projectId() };
    return (await take(api.GET("/api/v1/projects/{project_id}/picture-ids", { params: { path, query: query.value } }))).ids;
  }

  const filtered = computed(() => {
    const { order: _order, falling: _falling, binned: _binned, ...rest } = query.value;
    return Object.values(rest).some(Boolean);
  });

  return { total, loading, failed, filtered, reload, at, need, allIds };
}
