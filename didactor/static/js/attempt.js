// One attempt: its samples go to the server while it is played, piece by piece; each answer says whether it is over, and what it was.
// Without a connection it is kept on the device and sent later.

import { Keeping, canKeep, fileOf, forget, left } from "./keep.js";
import { pcm16 } from "./wav.js";

// A piece is sent when it is so long: where the end is near the verdict should not wait for it; before that, the more while it is counted
// off, and while all listen to others, many who practise would only hold up each other. Nobody answering, an attempt ends so long after
// its last note was due.
const PIECE_S = 0.25;
const PIECE_BEFORE_S = 1;
const PIECE_COUNTED_S = 2;
const PIECE_WAITING_S = 0.6;
const NEAR_S = 0.5;
const AFTER_S = 1.2;
const PIECE_BYTES = 2_000_000;
const WAV_HEADER = 44;

const token = () => JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"];

export function post(address, fields) {
  return fetch(address, { method: "POST", body: new URLSearchParams(fields), headers: { "X-CSRFToken": token() } });
}

// Blocks of 16-bit samples joined.
export function joined(blocks) {
  const whole = new Int16Array(blocks.reduce((sum, block) => sum + block.length, 0));
  let at = 0;
  for (const block of blocks) {
    whole.set(block, at);
    at += block.length;
  }
  return whole;
}

// What the server is told of an attempt.
function fieldsOf({ id, stone, remedy, kind, of, prompt, tempo, rate, start, trial }) {
  const drill = kind ? { kind, of, prompt } : {};
  return { id, stone, remedy: remedy ?? "", tempo: String(tempo), rate: String(rate), start: start.toFixed(3), trial: trial ? "1" : "0", ...drill };
}

export class Attempt {
  // facts: { id, stone, remedy, tempo, rate, start, trial }, of a drill { kind, of, prompt } instead of a stone; endS: when its last note is due to end, seconds of its sound.
  constructor(facts, { begin, piece, endS, task, person, title }) {
    Object.assign(this, { facts, endS, kept: { task, person, title } });
    this.begin = begin;
    this.address = piece.replace("00000000-0000-0000-0000-000000000000", facts.id);
    this.all = [];
    this.count = 0;
    this.sent = 0;
    this.line = [];
    this.busy = false;
    this.over = false;
    this.offline = false;
    this.away = false;
    this.waits = false;
    this.result = new Promise((resolve) => (this.resolve = resolve));
    this.open = this.#open();
  }

  async #open() {
    try {
      const answer = await post(this.begin, this.fields());
      if (answer.status === 422 || answer.status === 400) return this.#end({ refused: (await answer.json()).says });
      if (!answer.ok) throw new Error();
      // With it the server need not look up each time whose pieces these are.
      this.pass = (await answer.json()).pass;
    } catch {
      this.offline = true;
    }
  }

  fields() {
    return fieldsOf(this.facts);
  }

  add(block) {
    if (this.over) return;
    const samples = pcm16(block);
    this.all.push(samples);
    this.line.push(samples);
    this.count += samples.length;
    this.#send();
    if ((this.offline || this.away) && this.count / this.facts.rate > this.endS + AFTER_S) this.stop();
  }

  // It is over by hand, or because nobody listens.
  async stop() {
    if (this.over) return;
    this.stopping = true;
    await this.#send(true);
  }

  #pieceS() {
    const heardS = this.count / this.facts.rate;
    if (heardS > this.endS - NEAR_S) return this.waits ? PIECE_WAITING_S : PIECE_S;
    return heardS < this.facts.start ? PIECE_COUNTED_S : PIECE_BEFORE_S;
  }

  async #send(last = false) {
    if (this.over || (!last && (this.busy || this.offline))) return;
    while (this.busy) await new Promise((resolve) => setTimeout(resolve, 20));
    if (this.over) return;
    const ready = this.line.reduce((sum, block) => sum + block.length, 0);
    if (!last && ready < this.#pieceS() * this.facts.rate) return;
    this.busy = true;
    const body = joined(this.line.splice(0));
    try {
      await this.open;
      if (this.over) return;
      if (this.offline) throw new Error();
      const answer = await fetch(`${this.address}?at=${this.sent * 2}${last ? "&last=1" : ""}`, { method: "POST", body, headers: { "X-CSRFToken": token(), "Content-Type": "application/octet-stream", ...(this.pass && { "X-Pass": this.pass }) } });
      const told = await answer.json();
      if (answer.status === 422) return this.#end({ refused: told.says });
      if (!answer.ok) throw new Error();
      this.sent += body.length;
      if (told.state === "over") return this.#end(told);
      this.away = told.state === "away";
      this.waits = told.waits === true;
    } catch {
      this.offline = true;
      if (last || this.stopping) await this.#keep();
    } finally {
      this.busy = false;
    }
  }

  // What could not be heard now is heard when there is a connection.
  async #keep() {
    if (!canKeep()) return this.#end({ lost: true });
    const { kind: drill, ...facts } = this.facts;
    const keeping = new Keeping({ ...facts, drill, ...this.kept, kind: "attempt", clicks: [], backing: "" });
    const floats = Float32Array.from(joined(this.all), (sample) => sample / 32767);
    keeping.add(floats);
    const safe = await keeping.finish();
    keeping.free();
    this.#end(safe ? { kept: true } : { lost: true });
  }

  #end(result) {
    this.over = true;
    this.resolve(result);
  }
}

// Attempts that this device has kept are sent, the oldest first. Returns the last answer, or nothing.
export async function sendKept({ begin, piece, person, task }) {
  if (!canKeep() || !navigator.onLine) return null;
  let last = null;
  for (const facts of (await left(person, "attempt")).reverse()) {
    if (facts.task !== task) continue;
    const file = await fileOf(facts.id);
    if (!file) {
      await forget(facts.id);
      continue;
    }
    const samples = (await file.arrayBuffer()).slice(WAV_HEADER);
    const ago = String(Math.max(0, Math.round((Date.now() - facts.begun) / 1000)));
    const { id } = facts;
    const begun = await post(begin, { ...fieldsOf({ ...facts, kind: facts.drill }), ago }).catch(() => null);
    if (!begun) return last;
    // What the server does not want any more would only be asked for again and again.
    if (begun.status === 422 || begun.status === 400) {
      await forget(id);
      continue;
    }
    const address = piece.replace("00000000-0000-0000-0000-000000000000", id);
    for (let at = 0; at < samples.byteLength; at += PIECE_BYTES) {
      const ends = at + PIECE_BYTES >= samples.byteLength;
      const answer = await fetch(`${address}?at=${at}${ends ? "&last=1" : ""}`, { method: "POST", body: samples.slice(at, at + PIECE_BYTES), headers: { "X-CSRFToken": token(), "Content-Type": "application/octet-stream" } }).catch(() => null);
      if (!answer?.ok) return last;
      if (ends) last = await answer.json();
    }
    await forget(id);
  }
  return last;
}
