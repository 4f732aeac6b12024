import { afterEach, describe, expect, test } from "vitest";
import { createApp, defineComponent, h, withDirectives } from "vue";

import { hint, type Key, layers, readable, useKeys } from "@/state/keys";

let close: (() => void)[] = [];

/** Mount a view that offers keys, and whatever it draws. */
function view(keys: Key[], draw: () => unknown = () => h("p")): HTMLElement {
  const place = document.body.appendChild(document.createElement("div"));
  const app = createApp(
    defineComponent({
      setup: () => {
        useKeys(keys);
        return draw as () => ReturnType<typeof h>;
      },
    }),
  );
  app.mount(place);
  close.push(() => (app.unmount(), place.remove()));
  return place;
}

function press(key: string, options: KeyboardEventInit = {}, target: EventTarget = document.body): KeyboardEvent {
  const event = new KeyboardEvent("keydown", { key, bubbles: true, cancelable: true, ...options });
  target.dispatchEvent(event);
  return event;
}

afterEach(() => {
  close.forEach((each) => each());
  close = [];
});

describe("keys of a view", () => {
  test("do what they say, and the browser does not", () => {
    let done = 0;
    view([{ keys: ["t"], label: "Tighten", run: () => (done += 1) }]);
    expect(press("t").defaultPrevented).toBe(true);
    expect(press("T", { shiftKey: true }).defaultPrevented).toBe(false);
    expect(done).toBe(1);
  });

  test("go with their view", () => {
    view([{ keys: ["t"], label: "Tighten", run: () => true }]);
    expect(layers.length).toBe(1);
    close.pop()!();
    expect(layers.length).toBe(0);
    expect(press("t").defaultPrevented).toBe(false);
  });

  test("of the view in front come first", () => {
    const done: string[] = [];
    view([{ keys: ["."], label: "Next picture", run: () => done.push("behind") }]);
    view([{ keys: ["."], label: "Next box", run: () => done.push("front") }]);
    press(".");
    expect(done).toEqual(["front"]);
  });

  test("that the view in front declines are for what lies under it, and at last for the browser", () => {
    const done: string[] = [];
    let selected = true;
    view([{ keys: ["ArrowLeft"], label: "Refuse", run: () => done.push("behind") }]);
    view([{ keys: ["ArrowLeft"], label: "Move", run: () => selected && done.push("front") }]);
    expect(press("ArrowLeft").defaultPrevented).toBe(true);
    selected = false;
    expect(press("ArrowLeft").defaultPrevented).toBe(true);
    expect(done).toEqual(["front", "behind"]);
    view([{ keys: ["ArrowRight"], label: "Nothing", run: () => false }]);
    expect(press("ArrowRight").defaultPrevented).toBe(false);
  });

  test("are letters where text is typed, but Ctrl Enter begins the form", () => {
    const done: string[] = [];
    const place = view(
      [
        { keys: ["t"], label: "Tighten", run: () => done.push("t") },
        { keys: ["Ctrl+Enter"], label: "Start training", run: () => done.push("start") },
      ],
      () => h("input", { type: "text" }),
    );
    const field = place.querySelector("input")!;
    press("t", {}, field);
    press("Enter", { ctrlKey: true }, field);
    expect(done).toEqual(["start"]);
  });

  test("leave Enter and Space to a button in focus", () => {
    let done = 0;
    const place = view([{ keys: ["Enter", " "], label: "Open", run: () => (done += 1) }], () => h("button"));
    press("Enter", {}, place.querySelector("button")!);
    press(" ", {}, place.querySelector("button")!);
    expect(done).toBe(0);
    press("Enter");
    expect(done).toBe(1);
  });

  test("rest while a dialog is open", () => {
    let done = 0;
    view([{ keys: ["t"], label: "Tighten", run: () => (done += 1) }]);
    const dialog = document.body.appendChild(document.createElement("div"));
    dialog.className = "el-overlay";
    press("t");
    dialog.remove();
    expect(done).toBe(0);
  });
});

describe("hints", () => {
  test.each([
    ["t", "T"],
    ["Shift+ArrowDown", "Shift ↓"],
    ["Ctrl+.", "Ctrl ."],
    ["+", "+"],
    [" ", "Space"],
  ])("%s is printed %s", (key, printed) => expect(readable(key)).toBe(printed));

  test("say what a button does and the key of the list", async () => {
    const place = view([{ keys: ["Ctrl+Shift+z", "Ctrl+y"], label: "Redo", run: () => true }], () =>
      withDirectives(h("button"), [[hint, "Redo"]]),
    );
    await new Promise((resolve) => setTimeout(resolve));
    expect(place.querySelector("button")!.title).toBe("Redo (Ctrl Shift Z or Ctrl Y)");
  });

  test("without a key are the words alone", async () => {
    const place = view([], () => withDirectives(h("button"), [[hint, "Reset"]]));
    await new Promise((resolve) => setTimeout(resolve));
    expect(place.querySelector("button")!.title).toBe("Reset");
  });
});
