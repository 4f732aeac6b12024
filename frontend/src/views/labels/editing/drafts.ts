/** Labels that could not be sent yet: kept in the browser until the server has them. */
import { api, ApiError, type Labels, take } from "@/api/client";
import type { Version } from "@/views/labels/editing/history";

export interface Draft extends Version {
  revision: number;
  /** What it was drawn upon; drafts of earlier versions do not say. */
  base?: Version;
}

const key = (pictureId: number): string => `avocet.draft.${pictureId}`;

export function keepDraft(pictureId: number, draft: Draft): void {
  try {
    localStorage.setItem(key(pictureId), JSON.stringify(draft));
  } catch {
    // A full store: the page itself still holds the boxes and asks before it is left.
  }
}

export function dropDraft(pictureId: number): void {
  localStorage.removeItem(key(pictureId));
}

export function draftOf(pictureId: number): Draft | null {
  try {
    return JSON.parse(localStorage.getItem(key(pictureId)) ?? "null") as Draft | null;
  } catch {
    return null;
  }
}

/** Whether the server has what a draft holds: its answer may have been lost on the way. */
export function isThere(draft: Draft, labels: Labels): boolean {
  const plain = (boxes: Labels["boxes"] | Draft["boxes"]): string =>
    JSON.stringify(
      boxes.map((box) => [box.class_id, box.corners, box.crowd, Object.entries(box.attributes).sort(), box.track]),
    );
  return draft.state === labels.state && plain(draft.boxes) === plain(labels.boxes);
}

/** Pictures with a draft. */
export function draftedPictures(): number[] {
  return Object.keys(localStorage)
    .filter((name) => name.startsWith("avocet.draft."))
    .map((name) => Number(name.slice("avocet.draft.".length)));
}

/**
 * Send what other pictures still have to send. What was changed on the server meanwhile stays a
 * draft: whoever opens the picture is shown both versions.
 */
export async function sendDrafts(except: number): Promise<number> {
  let sent = 0;
  for (const pictureId of draftedPictures()) {
    const draft = draftOf(pictureId);
    if (pictureId === except || !draft) continue;
    try {
      await take(
        api.PUT("/api/v1/pictures/{picture_id}/labels", {
          params: { path: { picture_id: pictureId } },
          body: { revision: draft.revision, boxes: draft.boxes, state: draft.state },
        }),
      );
      dropDraft(pictureId);
      sent += 1;
    } catch (error) {
      const problem = error as ApiError;
      if (problem.status === 0) return sent;
      if (problem.status === 404 || (problem.status === 409 && isThere(draft, problem.current as Labels)))
        dropDraft(pictureId);
    }
  }
  return sent;
}
