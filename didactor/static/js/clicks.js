// A click under a take: on its own beat or on the one that was asked for. It follows the sound that plays, at whatever speed.

import { click } from "./metronome.js";

const AHEAD_S = 0.15;
const TIMER_MS = 40;
const SLIPPED_S = 0.08;

// Clicks due between two times of the take; `after` itself is not among them.
export const dueClicks = (clicks, after, until) => clicks.filter(([at]) => at > after && at <= until);

export class Clicks {
  // now: seconds of the take that sound at this moment.
  constructor(audio, tracks, now) {
    Object.assign(this, { audio, tracks, now, track: [], done: null, context: null });
    audio.addEventListener("play", () => this.run());
    audio.addEventListener("seeking", () => (this.done = null));
    audio.addEventListener("pause", () => clearInterval(this.timer));
  }

  choose(name) {
    this.track = this.tracks[name] ?? [];
    this.done = null;
    this.run();
  }

  run() {
    clearInterval(this.timer);
    if (!this.track.length || this.audio.paused) return;
    this.context ??= new AudioContext();
    this.context.resume();
    this.timer = setInterval(() => this.schedule(), TIMER_MS);
  }

  schedule() {
    const now = this.now();
    const rate = this.audio.playbackRate;
    // After a jump what lies between is not clicked.
    const after = this.done === null || Math.abs(this.done - now) > AHEAD_S * rate + SLIPPED_S ? now - 0.02 : this.done;
    const until = now + AHEAD_S * rate;
    for (const [at, strong] of dueClicks(this.track, after, until)) {
      click(this.context, Math.max(this.context.currentTime, this.context.currentTime + (at - now) / rate), strong ? 1 : 0.6);
    }
    this.done = Math.max(after, until);
  }
}
