/** Keys of the view in front. A view registers what it offers; `?` lists it. */
import { type Directive, nextTick, onBeforeUnmount, onMounted, reactive } from "vue";

export interface Key {
  /** As in `KeyboardEvent.key`, with `Ctrl+`, `Shift+`, `Alt+` before it; several are alternatives. */
  keys: string[];
  label: string;
  /** Returns false to let what lies under this view have the key after all, and at last the browser. */
  run: (event: KeyboardEvent) => unknown;
  hidden?: boolean;
}

export const layers = reactive<Key[][]>([]);

export function useKeys(keys: Key[]): void {
  onMounted(() => layers.push(keys));
  onBeforeUnmount(() => {
    const place = layers.findIndex((layer) => layer === keys || sameLayer(layer, keys));
    if (place >= 0) layers.splice(place, 1);
  });
}

const READABLE: Record<string, string> = {
  " ": "Space",
  ArrowLeft: "←",
  ArrowRight: "→",
  ArrowUp: "↑",
  ArrowDown: "↓",
};

/** A key as it is printed on the keyboard. */
export function readable(key: string): string {
  return key
    .split(/\+(?=.)/)
    .map((part) => READABLE[part] ?? (part.length === 1 ? part.toUpperCase() : part))
    .join(" ");
}

/** `v-hint="label"`: what a button does and the key that does it too, as the list of keys has them. */
export const hint: Directive<HTMLElement, string> = {
  mounted: (element, { value }) => void nextTick(() => (element.title = withKey(value))),
  updated: (element, { value }) => void (element.title = withKey(value)),
};

function withKey(label: string): string {
  const found = layers.flat().find((key) => key.label === label);
  return found ? `${label} (${found.keys.map(readable).join(" or ")})` : label;
}

function sameLayer(a: Key[], b: Key[]): boolean {
  return a.length === b.length && a.every((key, index) => key.run === b[index]?.run);
}

function nameOf(event: KeyboardEvent): string {
  // With Alt some keyboards type another letter, so the key's place counts.
  if (event.altKey && /^(Key|Digit)/.test(event.code)) return `Alt+${event.code.at(-1)!.toLowerCase()}`;
  const control = event.ctrlKey || event.metaKey ? "Ctrl+" : "";
  // With Shift digits type signs, which differ from keyboard to keyboard.
  if (event.shiftKey && !event.ctrlKey && /^Digit/.test(event.code)) {
    const place = `Shift+${event.code.at(-1)!}`;
    if (layers.some((layer) => layer.some((key) => key.keys.includes(place)))) return place;
  }
  // Signs such as ? need Shift by themselves on many keyboards; letters do not.
  const named = event.key.length > 1 || control || /^[a-z]$/i.test(event.key);
  const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
  return `${control}${event.shiftKey && named ? "Shift+" : ""}${key}`;
}

function takesText(target: EventTarget | null): boolean {
  if (!(target instanceof HTMLElement)) return false;
  // What is switched or chosen from a list has a use for arrows, but not for letters.
  if (target instanceof HTMLInputElement && (target.readOnly || /^(radio|checkbox|range|button)$/.test(target.type)))
    return false;
  return target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName);
}

window.addEventListener("keydown", (event) => {
  // A form is begun from inside its fields as well.
  const typing = takesText(event.target) && nameOf(event) !== "Ctrl+Enter";
  if (typing || document.querySelector(".el-overlay:not([style*='display: none'])")) return;
  // An open list has all keys.
  if (event.target instanceof HTMLElement && event.target.getAttribute("aria-expanded") === "true") return;
  const pressed = nameOf(event);
  // A focused button or link keeps Enter and Space for itself.
  const onControl = event.target instanceof HTMLElement && event.target.closest("button, a, input, [role='slider']");
  const moved = onControl && (onControl.getAttribute("role") || onControl instanceof HTMLInputElement);
  if (onControl && (pressed === "Enter" || pressed === " " || (pressed.startsWith("Arrow") && moved))) return;
  for (const layer of [...layers].reverse()) {
    const found = layer.find((key) => key.keys.includes(pressed));
    if (found && found.run(event) !== false) {
      event.preventDefault();
      return;
    }
  }
});
