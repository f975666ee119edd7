import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";

const ORIGIN = "https://didactor.test";
const handlers = {};
let stores;
let answers;
let fetched;

class Store {
  constructor() {
    this.kept = new Map();
  }
  key(request) {
    return new URL(typeof request === "string" ? request : request.url, ORIGIN).href;
  }
  async match(request, { ignoreSearch = false } = {}) {
    const bare = (href) => (ignoreSearch ? href.split("?")[0] : href);
    const found = [...this.kept].find(([href]) => bare(href) === bare(this.key(request)));
    return found?.[1];
  }
  async put(request, answer) {
    this.kept.set(this.key(request), answer);
  }
  async add(request) {
    await this.put(request, await globalThis.fetch(request));
  }
  async keys() {
    return [...this.kept.keys()].map((url) => ({ url }));
  }
  async delete(request) {
    this.kept.delete(this.key(request));
  }
}

globalThis.caches = {
  open: async (name) => stores.set(name, stores.get(name) ?? new Store()).get(name),
  keys: async () => [...stores.keys()],
  delete: async (name) => stores.delete(name),
};
globalThis.self = {
  location: { origin: ORIGIN },
  addEventListener: (name, handler) => (handlers[name] = handler),
  skipWaiting() {},
  clients: { claim: async () => {} },
};
globalThis.fetch = async (request, options) => {
  const url = new URL(typeof request === "string" ? request : request.url, ORIGIN);
  fetched.push([url.pathname, options?.redirect ?? ""]);
  const answer = answers[url.pathname];
  if (!answer) throw new TypeError("no network");
  return { ok: answer.status === 200, type: "basic", clone: () => answer, ...answer };
};
globalThis.Request = class {
  constructor(path) {
    this.url = ORIGIN + path;
  }
};
await import("../../didactor/static/js/sw.js");

beforeEach(() => {
  stores = new Map();
  answers = {};
  fetched = [];
});

async function message(person, urls) {
  let done;
  handlers.message({ data: { person, urls }, waitUntil: (promise) => (done = promise) });
  await done;
}

// What the worker answers, or undefined where it leaves the request alone.
async function asked(path, { method = "GET", mode = "cors", headers = {}, origin = ORIGIN } = {}) {
  let answer;
  const request = { url: origin + path, method, mode, headers: { has: (name) => name in headers } };
  handlers.fetch({ request, respondWith: (promise) => (answer = promise) });
  return answer;
}

const keptOf = async (name) => (await (await caches.open(name)).keys()).map(({ url }) => new URL(url).pathname);

test("a page is kept for its person, and what it is made of for everybody", async () => {
  answers = { "/stand/3/play/": { status: 200, body: "page" }, "/static/js/a.123.js": { status: 200 } };
  await message("7", ["/stand/3/play/", "/static/js/a.123.js"]);
  assert.deepEqual(await keptOf("private-7"), ["/stand/3/play/"]);
  assert.deepEqual(await keptOf("assets"), ["/static/js/a.123.js"]);
  assert.deepEqual(fetched[0], ["/stand/3/play/", "manual"]);
});

test("an answer that leads to the sign-in, an error and another site's page are not kept", async () => {
  answers = { "/stand/3/": { status: 0, type: "opaqueredirect" }, "/stand/4/": { status: 404 }, "/x/": { status: 200 } };
  await message("7", ["/stand/3/", "/stand/4/", "https://elsewhere.test/x/"]);
  assert.deepEqual(await keptOf("private-7"), []);
});

test("who signs out, or somebody else who signs in, finds nothing of what was there", async () => {
  answers = { "/stand/": { status: 200 } };
  await message("7", ["/stand/"]);
  await message("8", ["/stand/"]);
  assert.deepEqual([...stores.keys()].filter((name) => name.startsWith("private-")), ["private-8"]);
  await message("", []);
  assert.deepEqual([...stores.keys()].filter((name) => name.startsWith("private-")), []);
});

test("with a connection pages come from the server, without one from the device, or the page that says so", async () => {
  answers = { "/stand/3/": { status: 200, body: "kept" }, "/offline/": { status: 200, body: "offline" } };
  let done;
  handlers.install({ waitUntil: (promise) => (done = promise) });
  await done;
  await message("7", ["/stand/3/"]);
  answers["/stand/3/"] = { status: 200, body: "newer" };
  assert.equal((await asked("/stand/3/?step=clap", { mode: "navigate" })).body, "newer");
  answers = {};
  assert.equal((await asked("/stand/3/?step=clap", { mode: "navigate" })).body, "kept");
  assert.equal((await asked("/stand/99/", { mode: "navigate" })).body, "offline");
});

test("what does not change under its name is taken from the device", async () => {
  answers = { "/static/css/app.1.css": { status: 200, body: "style" }, "/library/models/5/": { status: 200, body: "sound" } };
  await asked("/static/css/app.1.css");
  await message("7", ["/library/models/5/"]);
  answers = {};
  assert.equal((await asked("/static/css/app.1.css")).body, "style");
  assert.equal((await asked("/library/models/5/")).body, "sound");
  fetched = [];
  await message("7", ["/library/models/5/", "/static/css/app.1.css"]);
  assert.deepEqual(fetched, []);
});

test("what is sent, fragments, ranges and other addresses are left alone", async () => {
  assert.equal(await asked("/stand/3/sounds/", { method: "POST" }), undefined);
  assert.equal(await asked("/stand/takes/3/status/", { mode: "navigate", headers: { "HX-Request": "true" } }), undefined);
  assert.equal(await asked("/library/models/5/", { headers: { Range: "bytes=0-" } }), undefined);
  assert.equal(await asked("/takes/5/sound/"), undefined);
  assert.equal(await asked("/static/a.js", { origin: "https://elsewhere.test" }), undefined);
});

test("old assets go before the device is full of them", async () => {
  const assets = await caches.open("assets");
  for (let k = 0; k < 405; k += 1) await assets.put(`/static/${k}.js`, {});
  await message("7", []);
  const kept = await keptOf("assets");
  assert.equal(kept.length, 400);
  assert.equal(kept[0], "/static/5.js");
});
