// Plays a stretch of the passage: a rendered sound and clicks on one clock, once or round and round, and says where the music is.

import { click } from "./metronome.js";

const AHEAD_S = 0.15;
const TIMER_MS = 25;
// What is scheduled begins so much later, so that nothing of it is cut.
const BEGINS_IN_S = 0.12;
// A note rings on after its written end.
const RINGS_S = 0.6;

// The time of the audio clock that is being heard now: the output's own stamp, carried on.
export function heardNow(context) {
  const stamp = context.getOutputTimestamp?.();
  if (stamp?.performanceTime > 0) return stamp.contextTime + (performance.now() - stamp.performanceTime) / 1000;
  return context.currentTime - (context.outputLatency || 0);
}

// Clicks of a stretch: [quarters, strength], a bar's first beat the strongest, `parts` of each beat the weakest.
export function clicksIn(bars, from, to, parts = 1) {
  const found = [];
  for (const [, , start, length, beat] of bars) {
    for (let k = 0; k * beat < length - 1e-6; k += 1) {
      for (let part = 0; part < parts; part += 1) {
        const at = start + k * beat + (part * beat) / parts;
        if (at < start + length - 1e-6 && at >= from - 1e-6 && at < to - 1e-6) found.push([at, part ? 0.3 : k ? 0.7 : 1]);
      }
    }
  }
  return found;
}

export class Transport {
  constructor(context) {
    this.context = context;
    this.timer = null;
    this.sources = new Set();
  }

  get running() {
    return this.timer !== null;
  }

  // sound: { buffer, leadS } or null. quarterS: seconds a quarter. from, to: quarters. count: beats counted off, each `beat` quarters
  // long, of which `overlap` quarters are the anacrusis. prelude: the sound counts off and plays its introduction by itself. clicks: as of
  // `clicksIn`. volume: of the clicks, 0..1.
  start({ sound, quarterS, from, to, again = false, count = 0, beat = 1, overlap = 0, prelude = false, clicks = [], volume = 0.6, onEnd = () => {} }) {
    this.stop();
    Object.assign(this, { sound, quarterS, from, to, again, onEnd, volume, clicks });
    const begins = this.context.currentTime + BEGINS_IN_S;
    const counting = prelude ? sound.leadS : Math.max(0, count * beat - overlap) * quarterS;
    if (prelude) count = 0;
    for (let k = 0; k < count; k += 1) click(this.context, begins + k * beat * quarterS, 1, this.context.destination);
    this.counted = { begins, beatS: beat * quarterS, count };
    this.rounds = [];
    this.#round(begins + counting, prelude ? sound.leadS : 0);
    this.timer = setInterval(() => this.#tick(), TIMER_MS);
    this.#tick();
  }

  stop() {
    if (!this.running) return;
    clearInterval(this.timer);
    this.timer = null;
    for (const source of this.sources) source.stop();
    this.sources.clear();
  }

  // Quarters from the start of the passage that are heard now, and which beat is counted, from 1; 0 once the music has begun.
  position() {
    const now = heardNow(this.context);
    const round = this.rounds.findLast((r) => r.at <= now) ?? this.rounds[0];
    const { begins, beatS, count } = this.counted;
    const beats = Math.floor((now - begins) / beatS) + 1;
    return {
      quarters: Math.min(this.to, Math.max(this.from, this.from + (now - round.at) / this.quarterS)),
      counted: beats >= 1 && beats <= count ? beats : 0,
      begun: now >= round.at,
    };
  }

  #round(at, before = 0) {
    const seconds = (this.to - this.from) * this.quarterS;
    this.rounds.push({ at, seconds, next: 0 });
    if (!this.sound) return;
    const source = this.context.createBufferSource();
    source.buffer = this.sound.buffer;
    source.connect(this.context.destination);
    source.onended = () => this.sources.delete(source);
    source.start(at - before, this.sound.leadS - before + this.from * this.quarterS, before + (this.again ? seconds : seconds + RINGS_S));
    this.sources.add(source);
  }

  #tick() {
    // A tick that was already due when it stopped.
    if (!this.running) return;
    const until = this.context.currentTime + AHEAD_S;
    for (const round of this.rounds) {
      for (; round.next < this.clicks.length; round.next += 1) {
        const [quarters, strength] = this.clicks[round.next];
        const time = round.at + (quarters - this.from) * this.quarterS;
        if (time > until) break;
        if (this.volume > 0) click(this.context, time, strength * this.volume, this.context.destination);
      }
    }
    const last = this.rounds.at(-1);
    const ends = last.at + last.seconds;
    if (this.again && ends < until) this.#round(ends);
    else if (!this.again && heardNow(this.context) > ends + (this.sound ? RINGS_S / 2 : 0)) {
      this.stop();
      this.onEnd();
    }
  }
}
