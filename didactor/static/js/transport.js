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

  // sounds: [{ buffer, leadS, counts }]; one that `counts` plays its own count-off and introduction, `leadS` seconds, where the stretch begins
  // with the passage. timing: see timing.js. from, to: quarters. count: beats counted off, each `beat` quarters long, of which `overlap`
  // quarters are the anacrusis. clicks: as of `clicksIn`. volume: of the clicks, 0..1.
  start({ sounds = [], timing, from, to, again = false, count = 0, beat = 1, overlap = 0, clicks = [], volume = 0.6, onEnd = () => {} }) {
    this.stop();
    Object.assign(this, { sounds, timing, from, to, again, onEnd, volume, clicks });
    const begins = this.context.currentTime + BEGINS_IN_S;
    const beatS = timing.seconds(from + beat) - timing.seconds(from);
    const prelude = from === 0 ? Math.max(0, ...sounds.filter((sound) => sound.counts).map((sound) => sound.leadS)) : 0;
    const counting = prelude || (Math.max(0, count * beat - overlap) * beatS) / beat;
    if (prelude) count = 0;
    for (let k = 0; k < count; k += 1) click(this.context, begins + k * beatS, 1, this.context.destination);
    this.counted = { begins, beatS, count };
    this.rounds = [];
    this.#round(begins + counting, prelude);
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
      quarters: Math.min(this.to, Math.max(this.from, this.timing.quarters(this.timing.seconds(this.from) + now - round.at))),
      counted: beats >= 1 && beats <= count ? beats : 0,
      begun: now >= round.at,
    };
  }

  #round(at, prelude = 0) {
    const seconds = this.#after(this.to);
    this.rounds.push({ at, seconds, next: 0 });
    for (const sound of this.sounds) {
      const before = sound.counts ? prelude : 0;
      const source = this.context.createBufferSource();
      source.buffer = sound.buffer;
      source.connect(this.context.destination);
      source.onended = () => this.sources.delete(source);
      const offset = sound.leadS - before + this.timing.seconds(this.from);
      source.start(at - before, offset, before + (this.again ? seconds : seconds + RINGS_S));
      this.sources.add(source);
    }
  }

  // Seconds from the beginning of the stretch to a place in it.
  #after(quarters) {
    return this.timing.seconds(quarters) - this.timing.seconds(this.from);
  }

  #tick() {
    // A tick that was already due when it stopped.
    if (!this.running) return;
    const until = this.context.currentTime + AHEAD_S;
    for (const round of this.rounds) {
      for (; round.next < this.clicks.length; round.next += 1) {
        const [quarters, strength] = this.clicks[round.next];
        const time = round.at + this.#after(quarters);
        if (time > until) break;
        if (this.volume > 0) click(this.context, time, strength * this.volume, this.context.destination);
      }
    }
    const last = this.rounds.at(-1);
    const ends = last.at + last.seconds;
    if (this.again && ends < until) this.#round(ends);
    else if (!this.again && heardNow(this.context) > ends + (this.sounds.length ? RINGS_S / 2 : 0)) {
      this.stop();
      this.onEnd();
    }
  }
}
