import { beforeEach, describe, expect, test, vi } from "vitest";
import { createMemoryHistory, createRouter, type Router } from "vue-router";

import { api } from "@/api/client";
import { endWalk, opened, useWalk } from "@/views/labels/editing/walk";

const said = vi.hoisted(() => [] as string[]);
vi.mock("@/state/notes", () => ({ say: (words: string) => said.push(words) }));

const IDS = [5, 9, 7, 12, 3];

/** A server with pictures in this order; each answer has its own revision. */
function served(pictures = IDS) {
  const asked: string[] = [];
  let revision = 0;
  vi.spyOn(api, "GET").mockImplementation((async (path: string, options: { params: { path: object } }) => {
    asked.push(`${path} ${JSON.stringify(options.params.path)}`);
    const data = path.endsWith("picture-ids") ? { ids: pictures } : { labels: { revision: ++revision } };
    return { data, response: new Response() };
  }) as never);
  return asked;
}

function router(): Router {
  const made = createRouter({
    history: createMemoryHistory(),
    routes: [{ path: "/project/1/collect/:picture", component: {} }],
  });
  return made;
}

const here = (routes: Router): string => routes.currentRoute.value.path.split("/").at(-1)!;
const nothing = (): void => undefined;

beforeEach(() => {
  endWalk();
  said.length = 0;
});

describe("walking along the pictures", () => {
  test("every step counts, however quickly they are asked for", async () => {
    served();
    const routes = router();
    await routes.push("/project/1/collect/5");
    const walk = useWalk(routes, 1, 5, {});
    await walk.loadIds();
    await Promise.all([walk.go(1, nothing), walk.go(1, nothing), walk.go(1, nothing)]);
    expect(here(routes)).toBe("12");
    // And back, from where they led.
    const there = useWalk(routes, 1, 12, {});
    expect([there.place.value, there.leads(1), there.leads(2)]).toEqual([3, true, false]);
    await Promise.all([there.go(-1, nothing), there.go(-1, nothing), there.go(1, nothing)]);
    expect(here(routes)).toBe("7");
  });

  test("the list stays for the sitting, with all that was done meanwhile", async () => {
    const asked = served();
    const routes = router();
    const query = { state: "unlabelled" };
    await useWalk(routes, 1, 9, query).loadIds();
    served([7]);
    // One box of it was asked for, which is no other list.
    const walk = useWalk(routes, 1, 7, { ...query, box: "1,2,3,4", from: "/project/1/audit" });
    await walk.loadIds();
    expect(walk.ids.value).toEqual(IDS);
    expect(asked.length).toBe(1);
    await useWalk(routes, 1, 7, {}).loadIds();
    expect(useWalk(routes, 1, 7, {}).ids.value).toEqual([7]);
  });

  test("at the ends it is said, and one stays", async () => {
    served();
    const routes = router();
    await routes.push("/project/1/collect/3");
    const walk = useWalk(routes, 1, 3, {});
    await walk.loadIds();
    await walk.go(1, nothing);
    expect([here(routes), walk.leaving.value]).toEqual(["3", false]);
    await useWalk(routes, 1, 5, {}).go(-1, nothing);
    expect(said).toEqual(["This is the last picture of the list", "This is the first picture of the list"]);
  });

  test("where one has to stay, the next step begins here again", async () => {
    served();
    const routes = router();
    await routes.push("/project/1/collect/5");
    const walk = useWalk(routes, 1, 5, {});
    await walk.loadIds();
    const remove = routes.beforeEach(() => false);
    const refused: boolean[] = [];
    await walk.go(1, (each) => refused.push(each));
    expect([refused, walk.leaving.value]).toEqual([[true], false]);
    remove();
    await walk.go(1, nothing);
    expect(here(routes)).toBe("9");
  });

  test("a step there and back again leads nowhere, and one may go on", async () => {
    served();
    const routes = router();
    await routes.push("/project/1/collect/9");
    const walk = useWalk(routes, 1, 9, {});
    await walk.loadIds();
    const refused: boolean[] = [];
    await Promise.all([walk.go(1, (each) => refused.push(each)), walk.go(-1, (each) => refused.push(each))]);
    expect([here(routes), refused, walk.leaving.value]).toEqual(["9", [false], false]);
  });

  test("the next picture is asked for before one goes there, once", async () => {
    const asked = served();
    const walk = useWalk(router(), 1, 9, {});
    await walk.loadIds();
    walk.lookAhead();
    walk.lookAhead();
    expect(asked.filter((each) => each.includes('"picture_id":7')).length).toBe(1);
    const { detail, fresh } = await opened(7);
    expect([detail.labels.revision, fresh]).toEqual([1, false]);
    // Whoever opens it again gets what is there by then.
    expect((await opened(7)).fresh).toBe(true);
  });

  test("what could not be loaded ahead is asked for anew", async () => {
    served();
    const walk = useWalk(router(), 1, 9, {});
    await walk.loadIds();
    vi.spyOn(api, "GET").mockRejectedValueOnce(new TypeError("gone") as never);
    walk.lookAhead();
    served();
    expect((await opened(7)).fresh).toBe(true);
  });
});
