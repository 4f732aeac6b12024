/** Run a composable as a view would, and take the view away again. */
import { createApp, defineComponent, h } from "vue";

export function mounted<T>(use: () => T): { made: T; leave: () => void } {
  let made: T | undefined;
  const app = createApp(
    defineComponent({
      setup: () => {
        made = use();
        return () => h("p");
      },
    }),
  );
  app.mount(document.createElement("div"));
  return { made: made as T, leave: () => app.unmount() };
}

/** A promise that is kept from outside. */
export function later<T>(): { promise: Promise<T>; keep: (value: T) => void } {
  let keep!: (value: T) => void;
  const promise = new Promise<T>((resolve) => (keep = resolve));
  return { promise, keep };
}
