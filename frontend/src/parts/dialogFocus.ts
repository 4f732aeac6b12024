/** A dialog takes the focus for itself when it opens; its first text field is where one types at once. */

const FIELD = "input[type='text']:not([readonly]):not([disabled]), textarea:not([disabled])";

/** Pass the focus on to the first text field of each dialog that opens. */
export function focusFieldsOfDialogs(): void {
  document.addEventListener("focusin", ({ target, relatedTarget }) => {
    if (!(target instanceof HTMLElement) || !target.classList.contains("el-dialog")) return;
    // Not when somebody clicks beside a field of a dialog that is open already.
    if (relatedTarget instanceof Node && target.contains(relatedTarget)) return;
    target.querySelector<HTMLElement>(FIELD)?.focus();
  });
}
