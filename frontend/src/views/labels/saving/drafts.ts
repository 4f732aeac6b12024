/** Labels that could not be sent yet: kept in the browser until the server has them. */
import { api, ApiError, type Labels, take } from "@/api/client";
import type { Version } from "@/views/labels/editing/history";
import { sameBoxes } from "@/views/labels/saving/merging";

export interface Draft extends Version {
  revision: number;
  /** What it was drawn upon; drafts of earlier versions do not say. */
  base?: Version;
}

/** Milliseconds after which a server that could not be reached is asked again. */
export const RETRY = 3000;

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
  return draft.state === labels.state && sameBoxes(draft.boxes, labels.boxes);
}

/** Pictures with a draft. */
export function draftedPictures(): number[] {
  return Object.keys(localStorage)
    .filter((name) => name.startsWith("avocet.draft."))
    .map((name) => Number(name.slice("avocet.draft.".length)));
}

/** Saves of pictures that were just left, until the server has answered or cannot be reached. */
const leaving = new Map<number, Promise<void>>();

/** A picture is left while this is under way. */
export function sendsOnLeaving(pictureId: number, sending: Promise<void>): void {
  const own = sending.finally(() => leaving.get(pictureId) === own && leaving.delete(pictureId));
  leaving.set(pictureId, own);
}

/** What a picture that was just left still sends: whoever opens it again waits for it. Nothing where all is sent. */
export function stillSending(pictureId: number): Promise<void> | undefined {
  return leaving.get(pictureId);
}

/** Views of a picture, open or just left, that still send what it has themselves. */
const views = new Set<{ pictureId: number }>();

/** Leave a picture's draft to its own view until what this returns is called. */
export function sendsItself(pictureId: number): () => void {
  const view = { pictureId };
  views.add(view);
  return () => void views.delete(view);
}

let underWay: Promise<number> | null = null;

/**
 * Send what pictures that are not open still have to send, once the server can be reached; gives how
 * many were sent. What was changed on the server meanwhile stays a draft: whoever opens the picture is
 * shown both versions.
 */
export function sendDrafts(): Promise<number> {
  underWay ??= sendAll().finally(() => (underWay = null));
  return underWay;
}

async function sendAll(): Promise<number> {
  const tried = new Set<number>();
  let sent = 0;
  for (;;) {
    const open = new Set([...views].map((view) => view.pictureId));
    const next = draftedPictures().find((pictureId) => !tried.has(pictureId) && !open.has(pictureId));
    if (next === undefined) return sent;
    const came = await sendDraft(next);
    if (came === "unreachable") await new Promise((resolve) => window.setTimeout(resolve, RETRY));
    else tried.add(next);
    if (came === "sent") sent += 1;
  }
}

async function sendDraft(pictureId: number): Promise<"sent" | "left" | "unreachable"> {
  const draft = draftOf(pictureId);
  if (!draft) return "left";
  try {
    await take(
      api.PUT("/api/v1/pictures/{picture_id}/labels", {
        params: { path: { picture_id: pictureId } },
        body: { revision: draft.revision, boxes: draft.boxes, state: draft.state, worked: 0 },
      }),
    );
  } catch (error) {
    const { status, current } = error as ApiError;
    if (status === 0 || status === 503) return "unreachable";
    // A picture that is gone needs no draft.
    if (status === 404 || (status === 409 && isThere(draft, current as Labels))) dropDraft(pictureId);
    return "left";
  }
  dropDraft(pictureId);
  return "sent";
}
