/** What tells an object of a clip from every other, whatever its number: numbers are used again. */
import type { Track } from "@/views/clips/editing/trajectory";

export function freshUid(): string {
  // There is no randomUUID on pages that come over a plain connection.
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  return [...bytes].map((each) => each.toString(16).padStart(2, "0")).join("");
}

/** Whether two are different objects. A draft of an earlier version does not say which it is. */
export function areTwo(some: Track | null | undefined, other: Track | null | undefined): boolean {
  return Boolean(some?.uid && other?.uid && some.uid !== other.uid);
}
