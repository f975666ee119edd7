import "fake-indexeddb/auto";

import assert from "node:assert/strict";
import { afterEach, beforeEach, test } from "node:test";
import * as idb from "idb";

globalThis.window = { idb, indexedDB };
globalThis.document = { body: { getAttribute: () => '{"X-CSRFToken": "t"}' } };
const held = new Set();
Object.defineProperty(globalThis, "navigator", { configurable: true, value: { onLine: true, locks: { request: async (name, work) => { held.add(name); await work({}); held.delete(name); }, query: async () => ({ held: [...held].map((name) => ({ name })) }) } } });
const { Attempt, joined, sendKept } = await import("../../didactor/static/js/attempt.js");
const { left } = await import("../../didactor/static/js/keep.js");

const RATE = 8000;
const FACTS = { id: "11111111-2222-3333-4444-555555555555", stone: "1-2", remedy: null, tempo: 60, rate: RATE, start: 1, trial: false };
const PLACES = { begin: "/begin/", piece: "/attempts/00000000-0000-0000-0000-000000000000/", endS: 2, task: 7, person: 3, title: "Ferry" };
let asked = [];
let answers = [];
const answer = (status, body = {}) => ({ ok: status < 400, status, json: async () => body });
const settle = () => new Promise((resolve) => setTimeout(resolve, 30));
const second = () => new Float32Array(RATE).fill(0.5);

beforeEach(() => {
  asked = [];
  answers = [];
  globalThis.fetch = async (url, options) => {
    asked.push([url, options.body, options.headers]);
    const next = answers.length > 1 ? answers.shift() : answers[0];
    if (next instanceof Error) throw next;
    return next;
  };
});
afterEach(() => held.clear());

test("blocks are joined in their order", () => {
  assert.deepEqual([...joined([Int16Array.of(1, 2), Int16Array.of(), Int16Array.of(3)])], [1, 2, 3]);
});

test("pieces follow each other without a gap until the server says that it is over", async () => {
  answers = [answer(200, { begun: true }), answer(200, { state: "going" }), answer(200, { state: "over", attempt: { outcome: "clean" } })];
  const attempt = new Attempt(FACTS, PLACES);
  for (let k = 0; k < 2; k += 1) {
    attempt.add(second());
    await settle();
  }
  assert.equal((await attempt.result).attempt.outcome, "clean");
  assert.deepEqual(asked.map(([url]) => url), ["/begin/", `/attempts/${FACTS.id}/?at=0`, `/attempts/${FACTS.id}/?at=16000`]);
  attempt.add(second());
  await settle();
  assert.equal(asked.length, 3, "nothing more is sent");
});

test("the pass that was given at the beginning goes with every piece", async () => {
  for (const given of ["signed", undefined]) {
    asked = [];
    answers = [answer(200, { begun: true, pass: given }), answer(200, { state: "going" })];
    const attempt = new Attempt(FACTS, PLACES);
    attempt.add(second());
    await settle();
    assert.equal(asked.at(-1)[2]["X-Pass"], given);
  }
});

// The lengths of the pieces, seconds, of a sound that comes in quarters of a second.
async function lengths(attempt, quarters) {
  const found = [];
  for (let k = 0; k < quarters; k += 1) {
    const before = asked.length;
    attempt.add(second().subarray(0, RATE / 4));
    await settle();
    if (asked.length > before && asked.at(-1)[0].includes("?at=")) found.push(asked.at(-1)[1].length / RATE);
  }
  return found;
}

test("pieces are two seconds long while it is counted off, then one, and short where the last note is near", async () => {
  answers = [answer(200, { begun: true }), answer(200, { state: "going" })];
  const found = await lengths(new Attempt({ ...FACTS, start: 2.25 }, { ...PLACES, endS: 5 }), 22);
  assert.deepEqual(found, [2, 1, 1, 0.75, 0.25, 0.25, 0.25]);
});

test("while others are listened to, it asks less often", async () => {
  answers = [answer(200, { begun: true }), answer(200, { state: "going" }), answer(200, { state: "going", waits: true })];
  const found = await lengths(new Attempt(FACTS, PLACES), 13);
  assert.deepEqual(found, [1, 0.75, 0.75, 0.75]);
});

test("what is refused is said, and nothing is sent after it", async () => {
  answers = [answer(422, { says: "Not this one." })];
  const attempt = new Attempt(FACTS, PLACES);
  attempt.add(second());
  assert.equal((await attempt.result).refused, "Not this one.");
  assert.equal(asked.length, 1);
});

test("where nobody listens it ends by itself after its last note, as the last piece", async () => {
  answers = [answer(200, { begun: true }), ...Array(4).fill(answer(200, { state: "away" })), answer(200, { state: "over", attempt: { outcome: "unheard" } })];
  const attempt = new Attempt(FACTS, PLACES);
  for (let k = 0; k < 4; k += 1) {
    attempt.add(second());
    await settle();
  }
  assert.equal((await attempt.result).attempt.outcome, "unheard");
  assert.match(asked.at(-1)[0], /last=1/);
});

test("without a connection it is kept on the device whole, and sent when there is one", async () => {
  answers = [new Error("down")];
  const attempt = new Attempt(FACTS, PLACES);
  for (let k = 0; k < 4; k += 1) {
    attempt.add(second());
    await settle();
  }
  assert.deepEqual(await attempt.result, { kept: true });
  held.clear();
  assert.equal((await left(3)).length, 0, "it is no take");
  assert.equal((await left(3, "attempt")).length, 1);
  asked = [];
  answers = [answer(200, { begun: true }), answer(200, { state: "over", attempt: { outcome: "unheard" } })];
  assert.equal(await sendKept({ ...PLACES, task: 8 }), null, "another task's page leaves it");
  const told = await sendKept(PLACES);
  assert.equal(told.attempt.outcome, "unheard");
  assert.equal(new URLSearchParams(asked[0][1]).get("id"), FACTS.id);
  assert.equal(asked[1][1].byteLength, 4 * RATE * 2, "not a sample is missing");
  assert.equal((await left(3, "attempt")).length, 0);
});

test("what the server does not want any more is not kept for ever", async () => {
  answers = [new Error("down")];
  const attempt = new Attempt({ ...FACTS, id: "99999999-2222-3333-4444-555555555555" }, PLACES);
  for (let k = 0; k < 4; k += 1) {
    attempt.add(second());
    await settle();
  }
  await attempt.result;
  held.clear();
  answers = [answer(422, { says: "cut anew" })];
  await sendKept(PLACES);
  assert.equal((await left(3, "attempt")).length, 0);
});

test("a go at a drill says its kind, also when it was kept on the device", async () => {
  const facts = { ...FACTS, id: "66666666-2222-3333-4444-555555555555", stone: "", kind: "find", of: "keys", prompt: "low A" };
  answers = [new Error("away")];
  const attempt = new Attempt(facts, { ...PLACES, task: 70 });
  attempt.add(second());
  await settle();
  await attempt.stop();
  assert.deepEqual(await attempt.result, { kept: true });
  const own = (await left(3, "attempt")).find(({ id }) => id === facts.id);
  assert.equal(own.kind, "attempt");
  answers = [answer(200, { begun: true }), answer(200, { state: "over", drill: {} })];
  asked = [];
  await sendKept({ ...PLACES, task: 70 });
  const sent = Object.fromEntries(asked[0][1]);
  assert.deepEqual([sent.kind, sent.of, sent.prompt], ["find", "keys", "low A"]);
});
