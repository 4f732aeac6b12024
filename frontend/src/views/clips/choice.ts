/** How a clip is labelled, as it is kept beside it. */
import { api, type Clip, type ClipChoice, take } from "@/api/client";

export function choiceOf(clip: Clip): ClipChoice | null {
  const { labelled_as: as, first, last, per_second, differing } = clip;
  return as ? { labelled_as: as, first, last, per_second, differing } : null;
}

export function putChoice(clipId: number, body: ClipChoice): Promise<unknown> {
  return take(api.PUT("/api/v1/clips/{clip_id}/choice", { params: { path: { clip_id: clipId } }, body }));
}

/** Which of its frames a clip is thinned out to. */
export function thinnedTo(clip: Clip): string {
  const stretch = clip.first || clip.last !== null ? `, from frame ${clip.first} to ${clip.last ?? "its end"}` : "";
  if (clip.per_second) return `${clip.per_second} a second${stretch}`;
  if (clip.differing) return `those that differ by ${Math.round(100 * clip.differing)} %${stretch}`;
  return `every frame${stretch}`;
}
