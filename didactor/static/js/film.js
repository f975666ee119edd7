// The teacher's film beside the score: silent, it follows the sound that plays.

import { along } from "./timing.js";

// It is put in its place when it is further off than this; a player is not sought in for less.
const OFF_S = 0.12;

export class Film {
  constructor(box) {
    this.box = box;
    this.video = box?.querySelector("video");
    box?.querySelector("[data-mirror]").addEventListener("click", () => this.mirror());
  }

  // reference: { film, laid } or null.
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

  // Quarters that are heard now, null while it is counted off.
  follow(quarters) {
    if (!this.timing || !this.box || this.box.hidden) return;
    const due = this.timing.seconds(quarters ?? 0);
    const now = performance.now() / 1000;
    if (quarters === null) {
      this.last = null;
      return void (Math.abs(this.video.currentTime - due) > OFF_S && (this.video.currentTime = due));
    }
    if (this.last && now > this.last.now && due > this.last.due) {
      const pace = (due - this.last.due) / (now - this.last.now);
      if (pace > 0.1 && pace < 4) this.video.playbackRate = Math.round(20 * (0.8 * this.video.playbackRate + 0.2 * pace)) / 20;
    }
    this.last = { now, due };
    if (Math.abs(this.video.currentTime - due) > OFF_S) this.video.currentTime = due;
    if (this.video.paused) this.video.play().catch(() => {});
  }

  pause() {
    this.last = null;
    this.video?.pause();
  }
}
