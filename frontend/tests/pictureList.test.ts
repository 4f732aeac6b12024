import { beforeEach, describe, expect, test, vi } from "vitest";
import { ref } from "vue";

import { api } from "@/api/client";
import { PAGE, type PictureQuery, usePictureList } from "@/views/pictures/pictureList";
import { later } from "./mounted";

interface Asked {
  after?: number;
  skip?: number;
  counted: boolean;
}

/** A server with so many pictures, numbered from 1. */
function server(total: number) {
  const asked: Asked[] = [];
  vi.spyOn(api, "GET").mockImplementation((async (_: string, { params }: { params: { query: Asked } }) => {
    const { after, skip, counted } = params.query;
    asked.push({ after, skip, counted });
    const first = after ?? skip ?? 0;
    const pictures = Array.from({ length: Math.max(0, Math.min(PAGE, total - first)) }, (_each, index) => ({
      id: first + index + 1,
    }));
    return { data: { pictures, total: counted ? total : null }, response: new Response() };
  }) as never);
  return asked;
}
const settled = (): Promise<void> => new Promise((resolve) => setTimeout(resolve));

describe("the pictures of a filter", () => {
  const query = ref<PictureQuery>({});
  beforeEach(() => (query.value = {}));

  test("the first page comes with the total, and no other", async () => {
    const asked = server(1000);
    const list = usePictureList(() => 1, query);
    await list.reload(true);
    expect(asked).toEqual([{ after: undefined, skip: 0, counted: true }]);
    expect([list.total.value, list.at(0)!.id, list.at(PAGE)]).toEqual([1000, 1, undefined]);
  });

  test("the next page is asked for by the key of the last picture, a far one by its place", async () => {
    const asked = server(1000);
    const list = usePictureList(() => 1, query);
    await list.reload(true);
    list.need(PAGE, PAGE + 5);
    list.need(6 * PAGE, 6 * PAGE + 5);
    await settled();
    expect(asked.slice(1)).toEqual([
      { after: PAGE, skip: undefined, counted: false },
      { after: undefined, skip: 6 * PAGE, counted: false },
    ]);
    expect(list.at(PAGE)!.id).toBe(PAGE + 1);
    expect(list.at(6 * PAGE + 3)!.id).toBe(6 * PAGE + 4);
  });

  test("what is there is not asked for again", async () => {
    const asked = server(1000);
    const list = usePictureList(() => 1, query);
    await list.reload(true);
    list.need(0, 10);
    list.need(0, 10);
    await settled();
    expect(asked.length).toBe(1);
  });

  test("loading anew asks for the pages in sight only, and forgets the rest", async () => {
    const asked = server(1000);
    const list = usePictureList(() => 1, query);
    await list.reload(true);
    for (const page of [1, 2, 3]) {
      list.need(page * PAGE, page * PAGE);
      await settled();
    }
    asked.length = 0;
    await list.reload(false);
    expect(asked).toEqual([{ after: undefined, skip: 3 * PAGE, counted: true }]);
    expect([list.at(0), list.at(3 * PAGE)!.id]).toEqual([undefined, 3 * PAGE + 1]);
  });

  test("an answer to an earlier filter is thrown away", async () => {
    const old = later<unknown>();
    vi.spyOn(api, "GET").mockReturnValueOnce(old.promise as never);
    const list = usePictureList(() => 1, query);
    const first = list.reload(true);
    server(3);
    await list.reload(true);
    old.keep({ data: { pictures: [{ id: 99 }], total: 1 }, response: new Response() });
    await first;
    expect([list.at(0)!.id, list.total.value]).toEqual([1, 3]);
  });

  test("a failure is said, and gone when the next one works", async () => {
    vi.spyOn(api, "GET").mockRejectedValueOnce(new TypeError("gone"));
    const list = usePictureList(() => 1, query);
    await list.reload(true);
    expect(list.failed.value).toContain("cannot be reached");
    server(3);
    await list.reload(true);
    expect(list.failed.value).toBe("");
  });

  test("order and bin are no filter", () => {
    const list = usePictureList(() => 1, query);
    query.value = { order: "name", descending: true, binned: true };
    expect(list.filtered.value).toBe(false);
    query.value = { part: "test" };
    expect(list.filtered.value).toBe(true);
  });
});
