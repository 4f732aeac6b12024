/** A picture opened to be labelled: as it was loaded ahead, or as it comes, and asked for until it is there. */
import { onBeforeUnmount, onMounted, ref } from "vue";

import { ApiError, type Labels, type Picture } from "@/api/client";
import { wordsOf } from "@/state/notes";
import { RETRY, sendDrafts } from "@/views/labels/saving/drafts";
import { forgetTyped } from "@/views/labels/editing/typedAhead";
import { type Detail, detailOf, loadedAhead, opened } from "@/views/labels/editing/walk";

export interface OpeningOptions {
  /** Show the labels that it has. */
  begin: (labels: Labels) => void;
  /** Show what somebody else made of them since they were loaded ahead. */
  renew: (labels: Labels) => void;
  /** What else has to be there. */
  also: () => Promise<void>;
}

export function useOpening(pictureId: number, { begin, renew, also }: OpeningOptions) {
  const picture = ref<Picture | null>(null);
  /** Why it is not there. */
  const failed = ref("");
  let again = 0;
  /** Its labels were loaded ahead, and may have been changed since. */
  let ahead = false;

  function take(detail: Detail): void {
    picture.value = detail.picture;
    begin(detail.labels);
  }

  async function load(): Promise<void> {
    window.clearTimeout(again);
    try {
      if (!picture.value) {
        const { detail, fresh } = await opened(pictureId);
        take(detail);
        ahead = !fresh;
      }
      // Where that fails, the next save meets what was changed.
      if (ahead)
        detailOf(pictureId).then(
          ({ labels }) => renew(labels),
          () => undefined,
        );
      await also();
      failed.value = "";
      void sendDrafts();
    } catch (error) {
      failed.value = wordsOf(error);
      forgetTyped();
      // Without a connection it is asked for again, until the picture is there.
      if (error instanceof ApiError && error.status === 0) again = window.setTimeout(load, RETRY);
    }
  }

  /** Show what was loaded ahead at once; call it when all that `begin` needs is there. */
  function openAtOnce(): void {
    const known = loadedAhead(pictureId);
    ahead = known !== null;
    if (known) take(known);
  }

  onMounted(load);
  onBeforeUnmount(() => window.clearTimeout(again));

  return { picture, failed, load, openAtOnce };
}
