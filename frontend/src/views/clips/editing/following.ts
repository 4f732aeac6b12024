/** Following objects through the next frames: asked of the server, shown with its progress, stopped, taken over. */
import { computed, ref, type Ref } from "vue";

import { api, type CarriedBox, take } from "@/api/client";
import { count } from "@/parts/format";
import { complain, say } from "@/state/notes";
import { useProject } from "@/state/project";
import { boxAt, isInSight, type Track, withFollowed } from "@/views/clips/editing/trajectory";
import type { useTracks } from "@/views/clips/editing/tracks";

const ENDED: Record<CarriedBox["ended"], string> = {
  there: "is there",
  lost: "was lost",
  left: "left the picture",
  clip: "is in sight as far as the clip goes",
  damaged: "stops where the clip is damaged",
};

export function useFollowing(clipId: number, tracks: ReturnType<typeof useTracks>, frame: Ref<number>) {
  const store = useProject();
  const jobId = ref(0);
  const job = computed(() => store.jobs.get(jobId.value));
  /** No box between set ones is off by more than this. */
  const leastIou = ref(0.9);

  /** The next box that was set by hand, if one object is followed: it is followed from both ends. */
  function pinned(some: readonly Track[], back: boolean): { to: number; target: Track } | null {
    if (some.length !== 1) return null;
    const frames = some[0]!.sets.filter((each) => each.origin === "hand").map((each) => each.frame);
    const to = back ? frames.findLast((each) => each < frame.value) : frames.find((each) => each > frame.value);
    return to === undefined ? null : { to, target: some[0]! };
  }

  /** Follow the selected objects until they are lost, to a frame, or to their next box. */
  async function follow(back: boolean, until?: number): Promise<void> {
    if (jobId.value) return;
    const some = tracks.selected.value.filter((each) => each.standing === "kept");
    if (!some.length) return say("Select the object to follow first");
    const pin = until === undefined ? pinned(some, back) : null;
    const to = until ?? pin?.to;
    if (to === frame.value) return;
    const from = frame.value;
    const known = tracks.renumbered.length;
    const body = {
      frame: from,
      to: to ?? null,
      back,
      least_iou: leastIou.value,
      boxes: some.map((track) => ({
        number: track.number,
        box: boxAt(track, from),
        target: pin && isInSight(track, pin.to) ? boxAt(track, pin.to) : null,
      })),
    };
    const params = { path: { clip_id: clipId } };
    try {
      const asking = take(api.POST("/api/v1/clips/{clip_id}/carried", { params, body }));
      const { outcome } = await store.outcomeOf("carry", asking, (started) => (jobId.value = started.id));
      const found = outcome.objects.flatMap((each): [number, Track][] => {
        // Whatever was changed meanwhile stays: what was found is put into the object as it is now.
        const number = tracks.renumbered.slice(known).reduce((now, [was, is]) => (now === was ? is : now), each.number);
        const track = tracks.all.value.get(number);
        return track ? [[number, withFollowed(track, each, from)]] : [];
      });
      tracks.change(found);
      say(words(outcome.objects, outcome.stopped));
    } catch (error) {
      complain(error);
    } finally {
      jobId.value = 0;
    }
  }

  function words(objects: readonly CarriedBox[], stopped: boolean): string {
    const doubts = objects.reduce((sum, each) => sum + each.unsure.length, 0);
    const look = doubts ? `; ${count(doubts, "place")} to look at (Shift U)` : "";
    const most = Math.max(...objects.map((each) => each.followed));
    if (objects.length > 1) {
      const lost = objects.filter((each) => each.ended === "lost").length;
      const gone = lost ? `, ${lost} lost on the way` : "";
      return `${objects.length} objects followed over up to ${count(most, "frame")}${gone}${look}`;
    }
    const end = stopped ? "stopped" : ENDED[objects[0]!.ended];
    return `Followed over ${count(most, "frame")}: ${end}${look}`;
  }

  return { job, jobId, leastIou, follow, stop: () => (jobId.value ? store.stop(jobId.value) : undefined) };
}
