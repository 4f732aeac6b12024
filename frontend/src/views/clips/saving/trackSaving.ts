/** Saving the objects of a clip by itself: only those that changed, again after a lost connection, never over somebody else's. */
import { onBeforeUnmount, ref, shallowRef } from "vue";

import { api, ApiError, type ClipTrack, take, type TrackList } from "@/api/client";
import type { Clash } from "@/views/clips/editing/tracks";
import { sameTrack, type Track } from "@/views/clips/editing/trajectory";
import { areTwo } from "@/views/clips/editing/uid";
import type { SaveState } from "@/views/labels/saving/saving";
import { useWorked } from "@/views/labels/saving/worked";

const SOON = 350;
const RETRY = 3000;
/** Objects that go with one request. */
const TOGETHER = 500;

interface Draft {
  /** What each object was changed from: its revision, and which object that was. */
  revisions: Record<number, number>;
  uids?: Record<number, string>;
  tracks: Record<number, Track | null>;
}

const draftKey = (clipId: number): string => `avocet.clip.${clipId}`;

export function draftOfClip(clipId: number): Draft | null {
  try {
    return JSON.parse(localStorage.getItem(draftKey(clipId)) ?? "null") as Draft | null;
  } catch {
    return null;
  }
}

function plain({ revision: _, ...track }: ClipTrack): Track {
  return track;
}

export interface TrackSavingOptions {
  read: () => Map<number, Track>;
  show: (tracks: Track[]) => void;
  /** An object got another number. */
  renumber: (object: Track, to: number) => void;
}

export function useTrackSaving(clipId: number, { read, show, renumber }: TrackSavingOptions) {
  const state = ref<SaveState>("saved");
  const message = ref("");
  /** Objects that were changed here and elsewhere: mine and theirs. */
  const conflict = shallowRef<Clash[]>([]);
  /** What proposals saved on this clip, and how many objects drawn by hand tell it. */
  const labour = shallowRef<Pick<TrackList, "time" | "timed">>({ time: null, timed: 0 });
  const worked = useWorked();
  let base = new Map<number, ClipTrack>();
  const touched = new Set<number>();
  /** What was sent without an answer: it may have arrived. */
  let unanswered = new Map<number, Track | null>();
  let timer = 0;
  let running: Promise<void> | null = null;
  let left = false;

  /** Begin with what the server has; what a lost connection left behind is taken up again. */
  function start(found: TrackList): Track[] {
    const { tracks } = found;
    labour.value = found;
    base = new Map(tracks.map((each) => [each.number, each]));
    const draft = draftOfClip(clipId);
    const shown = new Map(tracks.map((each) => [each.number, plain(each)]));
    const clashes: Clash[] = [];
    let fresh = Math.max(0, ...shown.keys(), ...Object.keys(draft?.tracks ?? {}).map(Number));
    for (const [key, own] of Object.entries(draft?.tracks ?? {})) {
      let [number, mine] = [Number(key), own];
      let theirs = shown.get(number) ?? null;
      if (JSON.stringify(mine) === JSON.stringify(theirs)) continue;
      const was = draft!.revisions[number] ?? 0;
      const stale = (base.get(number)?.revision ?? 0) !== was;
      // Taken away, and so it is there: what has its number now is another object.
      if (!mine && stale && draft!.uids?.[number] && theirs?.uid !== draft!.uids[number]) continue;
      if (mine && stale && areTwo(mine, theirs)) {
        fresh += 1;
        [number, mine, theirs] = [fresh, { ...mine, number: fresh }, null];
        if (was) clashes.push({ number, mine, theirs });
      } else if (stale) clashes.push({ number, mine, theirs });
      touched.add(number);
      if (mine) shown.set(number, mine);
      else shown.delete(number);
    }
    if (clashes.length) disagree(clashes);
    else if (touched.size) later(0);
    else dropDraft();
    return [...shown.values()];
  }

  /** Some objects were changed. */
  function touch(): void {
    const now = read();
    for (const [number, track] of now) {
      const before = base.get(number);
      if (!before || JSON.stringify(plain(before)) !== JSON.stringify(track)) touched.add(number);
    }
    for (const number of base.keys()) if (!now.has(number)) touched.add(number);
    keepDraft();
    if (state.value !== "conflict") later();
  }

  function later(delay = SOON): void {
    if (state.value !== "offline") state.value = "waiting";
    window.clearTimeout(timer);
    timer = window.setTimeout(() => void save(), delay);
  }

  function keepDraft(): void {
    const now = read();
    const draft: Draft = { revisions: {}, uids: {}, tracks: {} };
    for (const number of touched) {
      draft.revisions[number] = base.get(number)?.revision ?? 0;
      draft.uids![number] = base.get(number)?.uid ?? "";
      draft.tracks[number] = now.get(number) ?? null;
    }
    try {
      localStorage.setItem(draftKey(clipId), JSON.stringify(draft));
    } catch {
      // Too much for the browser: it is saved on the server in a moment all the same.
    }
  }

  function dropDraft(): void {
    localStorage.removeItem(draftKey(clipId));
  }

  /** Save now; resolves when everything up to this moment is saved or known not to be. */
  async function save(): Promise<void> {
    window.clearTimeout(timer);
    while (running) await running;
    if (!touched.size || state.value === "conflict") return;
    running = send();
    await running;
    running = null;
    if (state.value === "saved" && touched.size && !left) later();
  }

  async function send(): Promise<void> {
    state.value = "saving";
    const now = read();
    const numbers = [...touched].slice(0, TOGETHER);
    const sent = new Map(numbers.map((number) => [number, now.get(number) ?? null]));
    const changes = numbers.map((number) => {
      const track = sent.get(number) ?? null;
      return { number, revision: base.get(number)?.revision ?? 0, track: track && withoutNumber(track) };
    });
    const seconds = worked.take();
    try {
      const params = { path: { clip_id: clipId } };
      const body = { changes, worked: seconds };
      const saved = await take(api.POST("/api/v1/clips/{clip_id}/tracks", { params, body }));
      labour.value = saved;
      unanswered = new Map();
      for (const number of numbers) base.delete(number);
      for (const each of saved.tracks) base.set(each.number, each);
      const after = new Map(read());
      const unchanged = numbers.filter((number) => (after.get(number) ?? null) === sent.get(number));
      for (const number of unchanged) touched.delete(number);
      takeClasses(after, unchanged);
      if (touched.size) keepDraft();
      else dropDraft();
      // It may have been asked about other objects while this was on its way.
      state.value = conflict.value.length ? "conflict" : "saved";
      message.value = "";
    } catch (error) {
      worked.giveBack(seconds);
      if ((error as ApiError).status === 0) unanswered = new Map([...unanswered, ...sent]);
      failed(error as ApiError);
    }
  }

  /** Objects whose class was merged meanwhile have the one that it became. */
  function takeClasses(after: Map<number, Track>, numbers: readonly number[]): void {
    const turned = numbers.flatMap((number) => {
      const [here, there] = [after.get(number), base.get(number)];
      return here && there && here.class_id !== there.class_id ? [{ ...here, class_id: there.class_id }] : [];
    });
    if (!turned.length) return;
    for (const each of turned) after.set(each.number, each);
    show([...after.values()]);
  }

  function withoutNumber({ number: _, ...track }: Track): Omit<Track, "number"> {
    return track;
  }

  function failed(error: ApiError): void {
    message.value = error.message;
    if (error.status === 0 || error.status === 503) {
      state.value = "offline";
      if (!left) timer = window.setTimeout(() => void save(), RETRY);
    } else if (error.status === 409) merge((error.current as { tracks: ClipTrack[] }).tracks);
    else state.value = "refused";
  }

  /** Somebody else changed objects meanwhile: what only they changed is taken over, what both did is asked about. */
  function merge(theirs: ClipTrack[]): void {
    const mine = read();
    const there = new Map(theirs.map((each) => [each.number, each]));
    const shown = new Map(theirs.map((each) => [each.number, plain(each)]));
    for (const [number, own] of mine) {
      // What nobody else has changed stays the very object that the steps to undo know.
      if (base.get(number)?.revision === there.get(number)?.revision) shown.set(number, own);
    }
    // What was asked before and has no answer yet is still asked.
    const asked = new Map(conflict.value.map((each) => [each.number, each]));
    // A number that is being taken away here is still that of another object.
    let fresh = Math.max(0, ...there.keys(), ...mine.keys(), ...touched);
    for (const number of [...touched]) {
      let own = mine.get(number) ?? null;
      const before = base.get(number);
      const now = there.get(number);
      const arrived = now && unanswered.has(number) && sameTrack(unanswered.get(number)!, plain(now));
      const stale = !arrived && (now?.revision ?? 0) !== (before?.revision ?? 0);
      if (own && stale && (areTwo(own, now) || areTwo(own, before))) {
        // Another object has its number, there or before it was drawn here.
        fresh += 1;
        const moved = { ...own, number: fresh };
        const question = asked.get(number);
        asked.delete(number);
        shown.set(fresh, moved);
        touched.add(fresh);
        renumber(own, fresh);
        const wasThere = before && !areTwo(own, before);
        if (wasThere || (question && !areTwo(question.mine, own)))
          asked.set(fresh, { number: fresh, mine: moved, theirs: null });
        if (!before || wasThere) {
          touched.delete(number);
          continue;
        }
        own = null;
      }
      if (!own && (!before || !now || areTwo(before, now))) {
        // Taken away before it was saved, so what has its number now is another object; or by both.
        touched.delete(number);
        asked.delete(number);
        continue;
      }
      if (stale) asked.set(number, { number, mine: own, theirs: now ? plain(now) : null });
      if (own) shown.set(number, own);
      else shown.delete(number);
    }
    base = there;
    unanswered = new Map();
    show([...shown.values()]);
    if (asked.size) disagree([...asked.values()]);
    else {
      conflict.value = [];
      window.clearTimeout(timer);
      if (touched.size) later(0);
      else dropDraft();
      state.value = touched.size ? "waiting" : "saved";
    }
  }

  /** What is here and what is there differ: the person decides, and nothing is sent until then. */
  function disagree(clashes: Clash[]): void {
    conflict.value = clashes;
    state.value = "conflict";
  }

  /** The person decides on all objects that both changed. */
  function settle(which: "mine" | "theirs"): void {
    const shown = new Map(read());
    for (const { number, theirs } of which === "mine" ? [] : conflict.value) {
      if (theirs) shown.set(number, theirs);
      else shown.delete(number);
      const there = base.get(number);
      if (sameTrack(theirs, there ? plain(there) : null)) touched.delete(number);
      else touched.add(number);
    }
    conflict.value = [];
    state.value = "saved";
    show([...shown.values()]);
    keepDraft();
    if (touched.size) later(0);
    else dropDraft();
  }

  /** Take over what came to the server by itself, such as proposals; what is changed here stays. */
  async function renew(): Promise<void> {
    const params = { path: { clip_id: clipId } };
    const found = await take(api.GET("/api/v1/clips/{clip_id}/tracks", { params }));
    merge(found.tracks);
  }

  onBeforeUnmount(() => {
    left = true;
    window.clearTimeout(timer);
    void save();
  });

  return { state, message, conflict, labour, start, touch, save, renew, disagree, settle };
}
