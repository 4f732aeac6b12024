/** Short messages: what went wrong, and what was done with a way back. */
import { ElMessage } from "element-plus";
import { h } from "vue";

export function say(message: string): void {
  ElMessage({ message, type: "success", plain: true, duration: 3500 });
}

/** What went wrong, in words. */
export function wordsOf(error: unknown): string {
  return error instanceof Error ? error.message : String(error);
}

export function complain(error: unknown): void {
  ElMessage({ message: wordsOf(error), type: "error", plain: true, duration: 8000, showClose: true });
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
