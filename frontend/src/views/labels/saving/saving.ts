/** Saving labels by itself: soon after a change, again after a lost connection, never over somebody else's. */
import { onBeforeUnmount, ref } from "vue";

import { api, ApiError, type Labels, take } from "@/api/client";
import {
  type Draft,
  draftOf,
  dropDraft,
  isThere,
  keepDraft,
  RETRY,
  sendDrafts,
  sendsItself,
  sendsOnLeaving,
} from "@/views/labels/saving/drafts";
import type { DrawnBox } from "@/api/client";
import type { Version } from "@/views/labels/editing/history";
import { useWorked } from "@/views/labels/saving/worked";
import { merged } from "@/views/labels/saving/merging";

export type SaveState = "saved" | "waiting" | "saving" | "offline" | "conflict" | "refused";

const SOON = 350;

export function useSaving(
  pictureId: number,
  read: () => { boxes: DrawnBox[]; state: Labels["state"] },
  /** Called with the server's answer, what was there before, and what was sent: that may have been changed since. */
  onSaved: (labels: Labels, before: Labels, sent: Version) => void,
  /** Called once the picture was left, if the server did not take what it has. */
  onRefused: () => void = () => undefined,
) {
  const state = ref<SaveState>("saved");
  const message = ref("");
  const theirs = ref<Labels | null>(null);
  /** What both versions of a conflict came from. */
  let base: Version = { state: "unlabelled", boxes: [] };
  let revision = 0;
  /** What the server had before. */
  let before: Labels = { revision: 0, state: "unlabelled", boxes: [] };
  let timer = 0;
  let changed = false;
  let running: Promise<void> | null = null;
  const release = sendsItself(pictureId);
  let left = false;
  const worked = useWorked();

  function later(delay = SOON): void {
    window.clearTimeout(timer);
    timer = window.setTimeout(() => void save(), delay);
  }

  function touch(): void {
    changed = true;
    keepDraft(pictureId, { revision, base: { state: before.state, boxes: before.boxes }, ...read() });
    if (state.value !== "conflict") {
      state.value = "waiting";
      later();
    }
  }

  /** Begin with what the server has; a draft from before a lost connection is taken up again. */
  function start(labels: Labels): Draft | null {
    revision = labels.revision;
    before = labels;
    const draft = draftOf(pictureId);
    if (!draft || isThere(draft, labels)) {
      dropDraft(pictureId);
      return null;
    }
    changed = true;
    if (draft.revision === labels.revision) {
      state.value = "waiting";
      later();
    } else disagree(labels, draft.base ?? labels);
    return draft;
  }

  /** Go on from what somebody else made meanwhile, unless something was changed here; says whether it did. */
  function renewed(labels: Labels): boolean {
    // An answer that was long on its way may tell of what was there before the last save.
    if (changed || state.value !== "saved" || labels.revision <= revision) return false;
    revision = labels.revision;
    before = labels;
    return true;
  }

  /** What is here goes back to another version than what the server has: the person decides. */
  function disagree(labels: Labels, from: Version): void {
    theirs.value = labels;
    base = from;
    changed = true;
    state.value = "conflict";
  }

  /** Save now; resolves when everything up to this moment is saved or known not to be. */
  async function save(): Promise<void> {
    window.clearTimeout(timer);
    while (running) await running;
    if (!changed || state.value === "conflict") return;
    running = send();
    await running;
    if (changed && state.value === "saved") await save();
  }

  async function send(): Promise<void> {
    state.value = "saving";
    changed = false;
    const sending = { revision, ...read() };
    const seconds = worked.take();
    try {
      const saved = await take(
        api.PUT("/api/v1/pictures/{picture_id}/labels", {
          params: { path: { picture_id: pictureId } },
          body: { ...sending, worked: seconds },
        }),
      );
      settle(saved.labels, sending);
      void sendDrafts();
    } catch (error) {
      const problem = error as ApiError;
      // Its answer was lost on the way, or it came from another tab: what is there is what was sent.
      if (problem.status === 409 && isThere(sending, problem.current as Labels)) {
        settle(problem.current as Labels, sending);
        return;
      }
      changed = true;
      worked.giveBack(seconds);
      message.value = problem.message;
      if (problem.status === 409) {
        disagree(problem.current as Labels, before);
      } else if (problem.status === 0 || problem.status >= 500) {
        state.value = "offline";
        // Once the picture is left, its draft is sent with those of others.
        if (!left) later(RETRY);
      } else {
        state.value = "refused";
      }
    } finally {
      running = null;
    }
  }

  /** The server has what was sent. */
  function settle(labels: Labels, sent: Version): void {
    revision = labels.revision;
    state.value = "saved";
    // What was changed meanwhile is a draft on top of what is saved now: after a crash it is no conflict.
    if (changed) keepDraft(pictureId, { revision, ...read() });
    else dropDraft(pictureId);
    onSaved(labels, before, sent);
    before = labels;
  }

  /** After a conflict: send mine over what is there now. */
  async function keepMine(): Promise<void> {
    revision = theirs.value!.revision;
    before = theirs.value!;
    theirs.value = null;
    changed = true;
    state.value = "waiting";
    await save();
  }

  /** After a conflict: go on from what is there now. */
  function takeTheirs(): Labels {
    const labels = theirs.value!;
    revision = labels.revision;
    before = labels;
    theirs.value = null;
    changed = false;
    dropDraft(pictureId);
    state.value = "saved";
    return labels;
  }

  /** After a conflict: what both did, which is then to be saved over what is there now. */
  function both(): Version {
    const found = merged(base, read(), theirs.value!);
    takeTheirs();
    return found;
  }

  function warn(event: BeforeUnloadEvent): void {
    if (changed) event.preventDefault();
  }

  window.addEventListener("beforeunload", warn);
  onBeforeUnmount(() => {
    window.removeEventListener("beforeunload", warn);
    left = true;
    const sending = save().finally(() => {
      release();
      if (state.value === "offline") void sendDrafts();
      else if (changed) onRefused();
    });
    sendsOnLeaving(pictureId, sending);
  });

  return { state, message, theirs, touch, save, keepMine, takeTheirs, both, disagree, start, renewed };
}
