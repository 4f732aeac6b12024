import ElementPlus from "element-plus";
import { createPinia } from "pinia";
import { createApp, h, nextTick, reactive } from "vue";
import { afterEach, expect, test, vi } from "vitest";

import { api } from "@/api/client";
import WorkOn from "@/views/models/WorkOn.vue";

afterEach(() => vi.restoreAllMocks());

/** The same draft, as a run and as a study ask where to work. */
async function shown(draft: { onCluster: boolean; apart: boolean }, single: boolean): Promise<HTMLElement> {
  const reply = { data: { address: "10.0.0.1:6379", hint: "" }, response: new Response() };
  vi.spyOn(api, "GET").mockResolvedValue(reply as never);
  const place = document.body.appendChild(document.createElement("div"));
  const app = createApp(() =>
    h(WorkOn, {
      modelValue: draft.onCluster,
      "onUpdate:modelValue": (value: boolean) => (draft.onCluster = value),
      apart: draft.apart,
      "onUpdate:apart": (value?: boolean) => (draft.apart = Boolean(value)),
      single,
    }),
  );
  app.use(createPinia()).use(ElementPlus).directive("hint", {}).mount(place);
  await new Promise((done) => setTimeout(done));
  return place;
}
async function choose(place: HTMLElement, words: string): Promise<void> {
  const found = [...place.querySelectorAll("label")].find((each) => each.textContent.trim() === words)!;
  found.querySelector("input")!.click();
  await nextTick();
}

test("a run has three places, and one of them at a time", async () => {
  const draft = reactive({ onCluster: false, apart: false });
  const run = await shown(draft, true);
  await choose(run, "One machine of it");
  expect(draft).toEqual({ onCluster: false, apart: true });
  await choose(run, "The cluster together");
  expect(draft).toEqual({ onCluster: true, apart: false });
  await choose(run, "This machine");
  expect(draft).toEqual({ onCluster: false, apart: false });
});

test("what a study chooses ends what a run had chosen", async () => {
  const draft = reactive({ onCluster: false, apart: true });
  const study = await shown(draft, false);
  expect(study.querySelector("label.is-active")!.textContent.trim()).toBe("This machine");
  await choose(study, "The cluster");
  expect(draft).toEqual({ onCluster: true, apart: false });
});
