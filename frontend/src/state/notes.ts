/** Short messages: what went wrong, and what was done with a way back. */
import { ElMessage } from "element-plus";
import { h } from "vue";

import { ApiError } from "@/api/client";

export function say(message: string): void {
  ElMessage({ message, type: "success", plain: true, duration: 3500 });
}

export function complain(error: unknown): void {
  const message = error instanceof ApiError || error instanceof Error ? error.message : String(error);
  ElMessage({ message, type: "error", plain: true, duration: 8000, showClose: true });
}

/** A message with an undo button, for changes made outside the drawing history. */
export function sayWithUndo(message: string, undo: () => Promise<void>): void {
  const shown = ElMessage({
    plain: true,
    type: "success",
    duration: 8000,
    showClose: true,
    message: h("span", [
      message,
      h(
        "button",
        {
          class: "undo-button",
          onClick: () => {
            shown.close();
            undo().catch(complain);
          },
        },
        "Undo",
      ),
    ]),
  });
}
