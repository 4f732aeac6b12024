/** Frames of a clip in the browser: the one that is wanted first, then those that come next. */
import { onBeforeUnmount, shallowRef } from "vue";

/** Bytes of decoded frames that are kept. */
const KEPT = 200 * 2 ** 20;

/** With one for the strips, one for what the server tells and one for saving, as many as a browser keeps. */
const AT_ONCE = 3;

/** Frames that are fetched ahead, in the direction in which somebody goes, and the other way. */
const AHEAD = 24;
const BEHIND = 6;

/** A frame that is wider is fetched at this width while it is passed, and whole once somebody stays. */
export const PASSING = 1920;

export function useFrames(clipId: number, size: { width: number; height: number }, count: number) {
  const width = size.width > PASSING ? PASSING : 0;
  const bytes = 4 * Math.min(size.width, PASSING) * (size.height * Math.min(1, PASSING / size.width));
  const most = Math.max(8, Math.floor(KEPT / bytes));
  const held = new Map<number, ImageBitmap>();
  const under = new Map<number, AbortController>();
  /** Goes up with every frame that came. */
  const came = shallowRef(0);
  const failed = shallowRef(new Map<number, string>());
  let now = 0;
  let way = 1;
  let gone = false;

  function address(frame: number, wide = width): string {
    return `/api/v1/clips/${clipId}/frames/${frame}${wide ? `?width=${wide}` : ""}`;
  }

  /** The frames to have, the most wanted first. */
  function wanted(): number[] {
    const all = [now];
    for (let step = 1; step <= Math.min(AHEAD, most - BEHIND - 1); step += 1) {
      all.push(now + way * step);
      if (step <= BEHIND) all.push(now - way * step);
    }
    return all.filter((each) => each >= 0 && each < count);
  }

  function fill(): void {
    const list = wanted();
    const set = new Set(list);
    for (const [frame, control] of under) if (!set.has(frame)) control.abort();
    for (const frame of list) {
      if (under.size >= AT_ONCE) return;
      if (!held.has(frame) && !under.has(frame) && !failed.value.has(frame)) void load(frame);
    }
  }

  async function load(frame: number): Promise<void> {
    const control = new AbortController();
    under.set(frame, control);
    try {
      const answer = await fetch(address(frame), { signal: control.signal });
      if (!answer.ok) throw new Error(((await answer.json()) as { detail?: string }).detail ?? "It cannot be shown");
      keep(frame, await createImageBitmap(await answer.blob()));
    } catch (error) {
      if (!control.signal.aborted) failed.value = new Map(failed.value).set(frame, (error as Error).message);
    } finally {
      under.delete(frame);
      if (!gone) {
        came.value += 1;
        fill();
      }
    }
  }

  function keep(frame: number, bitmap: ImageBitmap): void {
    if (gone) return bitmap.close();
    held.set(frame, bitmap);
    while (held.size > most) {
      const farthest = [...held.keys()].reduce((a, b) => (Math.abs(a - now) >= Math.abs(b - now) ? a : b));
      held.get(farthest)!.close();
      held.delete(farthest);
    }
  }

  /** Go to a frame: it and those around it are fetched. */
  function go(frame: number): void {
    if (frame !== now) way = frame > now ? 1 : -1;
    now = frame;
    fill();
  }

  /** A frame that failed is asked for again. */
  function again(frame: number): void {
    const rest = new Map(failed.value);
    rest.delete(frame);
    failed.value = rest;
    fill();
  }

  onBeforeUnmount(() => {
    gone = true;
    for (const control of under.values()) control.abort();
    for (const bitmap of held.values()) bitmap.close();
    held.clear();
  });

  /** How many of the next frames are there already. */
  function ahead(from: number): number {
    let many = 0;
    while (held.has(from + many + 1)) many += 1;
    return many;
  }

  return { came, failed, ahead, at: (frame: number) => held.get(frame), go, again, address, whole: width === 0 };
}
