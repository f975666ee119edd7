// A film beside the score: silent, it follows the sound that plays. Its own times are found from places: quarters of the score, or
// seconds of a take.

import { along } from "./timing.js";

// It is put in its place when it is further off than this; a player is not sought in for less.
const OFF_S = 0.12;
// Nearer than this it is level: half a picture.
const LEVEL_S = 0.015;
// At rest it shows the very picture.
const RESTING_OFF_S = 0.01;

// How fast it runs: at the pace of what is heard, and a little faster or slower until it is level with it.
export function rateFor(pace, off) {
  const catching = Math.abs(off) < LEVEL_S ? 0 : Math.max(-0.25, Math.min(0.25, off * 2));
  return Math.min(4, Math.max(0.1, Math.round(50 * pace * (1 + catching)) / 50));
}

export class Film {
  constructor(box) {
    this.box = box;
    this.video = box?.querySelector("video");
    box?.querySelector("[data-mirror]").addEventListener("click", () => this.mirror());
  }

  // reference: { film, laid } or null; laid: pairs of a place and the film's seconds.
  show(reference) {
    const has = Boolean(reference?.film);
    if (!this.box) return;
    this.box.hidden = !has;
    this.timing = has ? along(reference.laid) : null;
    if (has && this.video.dataset.of !== reference.film) {
      this.video.dataset.of = reference.film;
      this.video.src = reference.film;
    }
  }

  mirror() {
    const on = this.video.classList.toggle("mirrored");
    this.box.querySelector("[data-mirror]").setAttribute("aria-pressed", String(on));
  }

  // The picture of one place, at rest.
  stand(place) {
    if (!this.timing) return;
    this.pause();
    const due = Math.max(0, this.timing.seconds(place));
    if (Math.abs(this.video.currentTime - due) > RESTING_OFF_S) this.video.currentTime = due;
  }

  // The place that is heard now, null while it is counted off.
  follow(place) {
    if (!this.timing || !this.box || this.box.hidden) return;
    const due = Math.max(0, this.timing.seconds(place ?? 0));
    const now = performance.now() / 1000;
    if (place === null) {
      this.last = null;
      return void (Math.abs(this.video.currentTime - due) > OFF_S && (this.video.currentTime = due));
    }
    const off = due - this.video.currentTime;
    if (this.last && now > this.last.now && due > this.last.due) {
      const pace = (due - this.last.due) / (now - this.last.now);
      if (pace > 0.1 && pace < 4) this.pace = 0.9 * (this.pace ?? pace) + 0.1 * pace;
      this.video.playbackRate = rateFor(this.pace ?? 1, off);
    }
    this.last = { now, due };
    if (Math.abs(off) > OFF_S) this.video.currentTime = due;
    if (this.video.paused) this.video.play().catch(() => {});
  }

  pause() {
    this.last = null;
    this.pace = null;
    this.video?.pause();
  }
}
