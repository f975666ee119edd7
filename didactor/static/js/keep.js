// Keeps recordings on the device while they are made, so that a closed page or an empty battery loses at most the last half second.
// A take is a row of facts and blocks of 16-bit samples; it goes when the server has said that it has the very same bytes.

import { pcm16, wavOf } from "./wav.js";
import { worded } from "./words.js";

const NAME = "didactor";
const VERSION = 1;

let opened = null;

function database() {
  opened ??= window.idb.openDB(NAME, VERSION, {
    upgrade(db) {
      db.createObjectStore("takes", { keyPath: "id" });
      db.createObjectStore("blocks");
    },
  });
  return opened;
}

// Whether this browser keeps anything at all.
export const canKeep = () => Boolean(window.idb && window.indexedDB);

// One recording that is being made. Blocks that could not be written stay in line and are tried again with the next one: nothing is
// left out in the middle. `onTrouble` is called once, when the device has no room.
export class Keeping {
  constructor(facts, onTrouble = () => {}) {
    this.facts = { ...facts, begun: Date.now(), whole: false };
    this.onTrouble = onTrouble;
    this.line = [];
    this.written = 0;
    this.troubled = false;
    this.busy = this.#put("takes", this.facts);
    // As long as this page holds it, no other takes this recording for a lost one.
    this.free = () => {};
    navigator.locks?.request(`didactor take ${facts.id}`, () => new Promise((resolve) => (this.free = resolve)));
  }

  // Samples of sound, or, of a film, bytes as the browser's encoder gives them.
  add(block) {
    this.line.push(this.facts.mime ? block : pcm16(block).buffer);
    this.busy = this.busy.then(() => this.#drain());
    return this.busy;
  }

  // What became known since: clicks, and when the accompaniment began.
  note(facts) {
    Object.assign(this.facts, facts);
    this.busy = this.busy.then(() => this.#put("takes", this.facts));
  }

  // All is recorded. True when all of it is on the device.
  async finish(facts = {}) {
    this.busy = this.busy.then(() => this.#drain());
    this.note({ ...facts, whole: true });
    await this.busy;
    return !this.troubled && !this.line.length;
  }

  // It is sent, or not wanted.
  async drop() {
    await this.busy;
    await forget(this.facts.id).catch(() => {});
    this.free();
  }

  async #drain() {
    while (this.line.length) {
      if (!(await this.#put("blocks", this.line[0], [this.facts.id, this.written]))) return;
      this.line.shift();
      this.written += 1;
    }
    this.troubled = false;
  }

  async #put(store, value, key) {
    try {
      const db = await database();
      const change = db.transaction(store, "readwrite", { durability: "strict" });
      change.store.put(value, key);
      await change.done;
      return true;
    } catch (error) {
      if (!this.troubled) this.onTrouble(error);
      this.troubled = true;
      return false;
    }
  }
}

// Leave for this page alone to record; null where another page of this browser is at it. The answer gives it back.
export function alone() {
  if (!navigator.locks) return Promise.resolve(() => {});
  return new Promise((found) => {
    navigator.locks.request("didactor recording", { ifAvailable: true }, (lock) => (lock ? new Promise((back) => found(back)) : found(null)));
  });
}

export const ELSEWHERE = worded("Another page of this browser is recording. Stop it there first: two recordings of one playing would get mixed up.");

// A kept recording as a file, a WAV or the film that it is, however far it came; null where nothing of it is there.
export async function fileOf(id) {
  const db = await database();
  const facts = await db.get("takes", id);
  const blocks = await db.getAll("blocks", IDBKeyRange.bound([id, 0], [id, Infinity]));
  if (facts?.mime && blocks.length) return new Blob(blocks, { type: facts.mime });
  return facts && blocks.length ? wavOf(blocks.map((buffer) => new Int16Array(buffer)), facts.rate) : null;
}

export async function forget(id) {
  const db = await database();
  const change = db.transaction(["takes", "blocks"], "readwrite");
  change.objectStore("takes").delete(id);
  change.objectStore("blocks").delete(IDBKeyRange.bound([id, 0], [id, Infinity]));
  await change.done;
}

// Recordings of this person that no page is making or holding now, the newest first: takes, or attempts at a stone.
export async function left(person, kind = "take") {
  const db = await database();
  const all = (await db.getAll("takes")).filter((facts) => facts.person === person && (facts.kind ?? "take") === kind);
  const held = new Set((await navigator.locks?.query())?.held.map((lock) => lock.name) ?? []);
  return all.filter((facts) => !held.has(`didactor take ${facts.id}`)).sort((a, b) => b.begun - a.begun);
}
