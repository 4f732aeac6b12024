/** Going from picture to picture: along which list, where to, and what is loaded ahead. */
import { computed, ref, shallowRef } from "vue";
import { isNavigationFailure, type LocationQuery, NavigationFailureType, type Router } from "vue-router";

import { api, pictureUrl, take } from "@/api/client";
import { say } from "@/state/notes";
import { stillSending } from "@/views/labels/saving/drafts";

/**
 * The pictures that next and previous walk along, and which question they answer. They stay for the
 * sitting: a picture does not slip away for being labelled, and going on asks for nothing but the next one.
 */
const walk = shallowRef<{ key: string; ids: number[] }>({ key: "", ids: [] });
/** The picture that was asked for last: a step that is pressed while it comes goes on from there. */
let aim = 0;
/** Steps that are being taken. */
let going = 0;
let direction = 1;

/** A picture with its labels as the server has them. */
export const detailOf = (pictureId: number) =>
  take(api.GET("/api/v1/pictures/{picture_id}", { params: { path: { picture_id: pictureId } } }));
export type Detail = Awaited<ReturnType<typeof detailOf>>;

/** The picture that comes next, asked for before somebody goes there. */
let ahead: { pictureId: number; coming: Promise<Detail>; detail: Detail | null } | null = null;

/** The next picture that is opened begins a new sitting. */
export function endWalk(): void {
  walk.value = { key: "", ids: [] };
  ahead = null;
  direction = 1;
}

/** A picture with its labels, where they were loaded ahead and are there already. */
export function loadedAhead(pictureId: number): Detail | null {
  if (ahead?.pictureId !== pictureId || !ahead.detail || stillSending(pictureId)) return null;
  const { detail } = ahead;
  ahead = null;
  return detail;
}

/** A picture with its labels; `fresh` is false where it was loaded ahead, and may have been changed since. */
export async function opened(pictureId: number): Promise<{ detail: Detail; fresh: boolean }> {
  const sending = stillSending(pictureId);
  const known = sending ? null : ahead;
  ahead = null;
  // Whoever comes back to a picture at once finds what was made of it.
  await sending;
  if (known?.pictureId === pictureId) {
    try {
      return { detail: await known.coming, fresh: false };
    } catch {
      // Asked for anew: whoever opens it gets the error.
    }
  }
  return { detail: await detailOf(pictureId), fresh: true };
}

function keyOf(projectId: number, query: LocationQuery): { key: string; wanted: LocationQuery } {
  const { from: _from, box: _box, ...wanted } = query;
  return { key: `${projectId} ${JSON.stringify(wanted)}`, wanted };
}

export function useWalk(router: Router, projectId: number, pictureId: number, query: LocationQuery) {
  const { key, wanted } = keyOf(projectId, query);
  const known = computed(() => walk.value.key === key && walk.value.ids.includes(pictureId));
  const ids = computed(() => (known.value ? walk.value.ids : []));
  const place = computed(() => ids.value.indexOf(pictureId));
  /** This picture is being left: what is pressed now is meant for the next one. */
  const leaving = ref(false);
  if (!going) aim = pictureId;

  /** The list that this picture was opened from. */
  async function loadIds(): Promise<void> {
    if (known.value) return;
    const found = await take(
      api.GET("/api/v1/projects/{project_id}/picture-ids", {
        params: { path: { project_id: projectId }, query: wanted as Record<string, never> },
      }),
    );
    walk.value = { key, ids: found.ids };
  }

  /** Whether a step leads on to a picture. */
  function leads(step: number): boolean {
    return place.value >= 0 && ids.value[place.value + step] !== undefined;
  }

  /** Go to a picture; where one must stay here, `stayed` tells so. */
  async function goTo(target: number, stayed: (refused: boolean) => void): Promise<void> {
    aim = target;
    leaving.value = true;
    going += 1;
    const { box: _box, ...rest } = query;
    const failure = await router
      .push({ path: `/project/${projectId}/collect/${target}`, query: rest })
      .finally(() => (going -= 1));
    if (!failure || isNavigationFailure(failure, NavigationFailureType.cancelled)) return;
    aim = pictureId;
    leaving.value = false;
    stayed(isNavigationFailure(failure, NavigationFailureType.aborted));
  }

  /** One on, or one back; as many steps as are asked for, however quickly. */
  async function go(step: number, stayed: (refused: boolean) => void): Promise<void> {
    const at = Math.max(ids.value.indexOf(aim), 0);
    const next = ids.value[at + step];
    if (place.value < 0) return;
    if (next === undefined) {
      say(step > 0 ? "This is the last picture of the list" : "This is the first picture of the list");
      return;
    }
    direction = step;
    await goTo(next, stayed);
  }

  /** Ask for what comes next, and for the pixels on both sides, before somebody goes there. */
  function lookAhead(): void {
    if (place.value < 0) return;
    const next = ids.value[place.value + direction];
    if (next !== undefined && ahead?.pictureId !== next && !stillSending(next)) {
      const asked: NonNullable<typeof ahead> = { pictureId: next, coming: detailOf(next), detail: null };
      // A failure is told to whoever opens it.
      asked.coming.then((detail) => (asked.detail = detail)).catch(() => undefined);
      ahead = asked;
    }
    for (const step of [direction, -direction]) {
      const neighbour = ids.value[place.value + step];
      if (neighbour !== undefined) new Image().src = pictureUrl({ id: neighbour });
    }
  }

  /** The next picture that is not labelled, among those that the grid's filter leaves. */
  async function nextUnlabelled(): Promise<number | undefined> {
    const first = async (after: number) => {
      const asked = {
        ...(wanted as Record<string, never>),
        state: "unlabelled" as const,
        after,
        limit: 2,
        counted: false,
      };
      const params = { path: { project_id: projectId }, query: asked };
      const found = await take(api.GET("/api/v1/projects/{project_id}/pictures", { params }));
      return found.pictures.find((each) => each.id !== pictureId)?.id;
    };
    return (await first(pictureId)) ?? (await first(0));
  }

  /** The unlabelled picture that a model is least sure of; where it proposes for none, the next unlabelled one. */
  async function leastSure(): Promise<number | undefined> {
    const params = { path: { picture_id: pictureId } };
    const found = await take(api.GET("/api/v1/pictures/{picture_id}/least-sure", { params }));
    return found.picture_id ?? (await nextUnlabelled());
  }

  return { ids, place, leaving, loadIds, leads, go, goTo, lookAhead, nextUnlabelled, leastSure };
}
