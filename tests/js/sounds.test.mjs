import assert from "node:assert/strict";
import { beforeEach, mock, test } from "node:test";

import { Sounds } from "../../didactor/static/js/sounds.js";

let answers;
let asked;
globalThis.document = { body: { getAttribute: () => '{"X-CSRFToken": "token"}' } };
globalThis.fetch = async (url, options) => {
  asked.push([url, options?.body?.toString() ?? ""]);
  const next = answers.shift();
  if (next === null) throw new TypeError("no network");
  const headers = new Headers({ "Content-Type": typeof next === "string" ? "text/plain" : "application/json" });
  return { ok: next !== 404, headers, text: async () => next, json: async () => next, arrayBuffer: async () => new ArrayBuffer(2) };
};
const context = { decodeAudioData: async () => ({ decoded: true }) };

beforeEach(() => {
  answers = [];
  asked = [];
  mock.timers.reset();
  mock.timers.enable({ apis: ["setTimeout"] });
});

// Lets what waits go on, however often it waits.
async function passing(promise) {
  let over = false;
  promise.finally(() => (over = true)).catch(() => {});
  for (let k = 0; k < 400 && !over; k += 1) {
    for (let m = 0; m < 8; m += 1) await Promise.resolve();
    mock.timers.tick(400);
  }
  return promise;
}

test("a sound that is being made is asked for until it is there, fetched and decoded once", async () => {
  const sounds = new Sounds("/stand/3/sounds/");
  answers = [{ waiting: true }, { waiting: true }, { url: "/m/1/", leadS: 0.3 }, {}];
  const found = await passing(sounds.at(context, 60));
  assert.deepEqual([found.leadS, found.buffer.decoded], [0.3, true]);
  assert.deepEqual(asked.map(([url]) => url), ["/stand/3/sounds/", "/stand/3/sounds/", "/stand/3/sounds/", "/m/1/"]);
  await sounds.at(context, 60);
  assert.equal(asked.length, 4);
});

test("the accompaniment is another sound, and so is another tempo", async () => {
  const sounds = new Sounds("/s/");
  for (const [tempo, what] of [[60, {}], [60, { accompaniment: 1 }], [66, {}], [60, { reference: 7 }]]) {
    answers = [{ url: "/m/", leadS: 1 }, {}];
    await passing(sounds.at(context, tempo, what));
  }
  assert.deepEqual(asked.map(([, body]) => body).filter(Boolean), ["tempo=60", "tempo=60&accompaniment=1", "tempo=66", "tempo=60&reference=7"]);
});

test("what cannot be had says what to choose instead", async () => {
  const sounds = new Sounds("/s/");
  for (const [answer, words] of [[{ failed: true }, /could not be made/], [null, /no connection/], ["You are signed out.", /^Error: You are signed out.$/]]) {
    answers = [answer];
    await assert.rejects(passing(sounds.find(60)), words);
  }
  answers = [{ url: "/m/", leadS: 1 }, 404];
  await assert.rejects(passing(sounds.at(context, 60)), /did not arrive/);
});

test("who waits a minute in vain is told so", async () => {
  answers = Array.from({ length: 400 }, () => ({ waiting: true }));
  await assert.rejects(passing(new Sounds("/s/").find(60)), /takes too long/);
  assert.ok(asked.length > 15 && asked.length < 32, "often at first, then less and less");
});
