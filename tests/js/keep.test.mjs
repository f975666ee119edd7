import "fake-indexeddb/auto";

import assert from "node:assert/strict";
import { afterEach, test } from "node:test";
import * as idb from "idb";

import { Keeping, alone, canKeep, fileOf, forget, left } from "../../didactor/static/js/keep.js";

globalThis.window = { idb, indexedDB };
// Locks as a page has them: a name is held until its promise is settled.
const held = new Set();
Object.defineProperty(globalThis, "navigator", {
  configurable: true,
  value: { locks: {
    request: async (name, options, work = options) => {
      if (options.ifAvailable && held.has(name)) return void (await work(null));
      held.add(name);
      await work({ name });
      held.delete(name);
    },
    query: async () => ({ held: [...held].map((name) => ({ name })) }),
  } },
});
const turn = () => new Promise((resolve) => setTimeout(resolve, 5));
const FACTS = { task: 7, title: "Ferry", person: 3, rate: 8000 };
const samples = async (id) => {
  const view = new DataView(await (await fileOf(id)).arrayBuffer());
  return Array.from({ length: (view.byteLength - 44) / 2 }, (_, i) => view.getInt16(44 + 2 * i, true));
};

afterEach(async () => {
  held.clear();
  for (const person of [3, 4]) for (const facts of await left(person)) await forget(facts.id);
});

test("blocks come back in the order in which they were recorded, as the file that is sent", async () => {
  const keeping = new Keeping({ ...FACTS, id: "a" });
  for (const value of [0.5, -0.5, 1.5]) keeping.add(Float32Array.of(value, 0));
  assert.equal(await keeping.finish({ clicks: [0.6, 1.1] }), true);
  assert.deepEqual(await samples("a"), [16384, 0, -16383, 0, 32767, 0]);
  held.clear();
  const [facts] = await left(3);
  assert.deepEqual([facts.title, facts.clicks, facts.whole], ["Ferry", [0.6, 1.1], true]);
});

test("a recording that a page holds is nobody else's; one that its page left behind is the person's own", async () => {
  await new Keeping({ ...FACTS, id: "live" }).add(Float32Array.of(0.1));
  await turn();
  assert.deepEqual(await left(3), []);
  held.clear();
  assert.deepEqual((await left(3)).map((f) => [f.id, f.whole]), [["live", false]]);
  assert.deepEqual(await left(4), []);
  assert.deepEqual(await samples("live"), [3277]);
});

test("a recording that was sent is gone, and so is one that was never more than announced", async () => {
  const keeping = new Keeping({ ...FACTS, id: "sent" });
  await keeping.add(Float32Array.of(0.1));
  await keeping.drop();
  held.clear();
  assert.deepEqual(await left(3), []);
  assert.equal(await fileOf("sent"), null);
  await new Keeping({ ...FACTS, id: "empty" }).busy;
  assert.equal(await fileOf("empty"), null);
});

test("without room it says so once, and what did not fit goes in as soon as there is room again", async () => {
  let troubles = 0;
  const keeping = new Keeping({ ...FACTS, id: "full" }, () => (troubles += 1));
  await keeping.add(Float32Array.of(0.1));
  const put = IDBObjectStore.prototype.put;
  IDBObjectStore.prototype.put = () => { throw new DOMException("no room", "QuotaExceededError"); };
  await keeping.add(Float32Array.of(0.2));
  await keeping.add(Float32Array.of(0.3));
  assert.equal(troubles, 1);
  assert.equal(await keeping.finish(), false);
  IDBObjectStore.prototype.put = put;
  await keeping.add(Float32Array.of(0.4));
  assert.equal(await keeping.finish(), true);
  assert.deepEqual(await samples("full"), [3277, 6553, 9830, 13107]);
});

test("a browser without a store of its own keeps nothing, and says so", () => {
  assert.equal(canKeep(), true);
  delete globalThis.window.idb;
  assert.equal(canKeep(), false);
  globalThis.window.idb = idb;
});

test("one page records at a time, and the next when it has given that back", async () => {
  const back = await alone();
  assert.equal(await alone(), null);
  back();
  await turn();
  assert.equal(typeof (await alone()), "function");
});
