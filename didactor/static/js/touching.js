// Names touched in time: the beat clicks, the cursor goes, each touch is kept with its time.

import { click } from "./metronome.js";
import { worded } from "./words.js";

// A breath before the count-off; after the last beat so many more wait for a late touch.
const BEGINS_IN_S = 0.5;
const WAITS_BEATS = 1.5;

// Seconds from the first name's beat; nothing for a touch that comes long before it.
export function since(now, starts, eachS) {
  return now < starts - 0.5 * eachS ? null : Math.max(0, now - starts);
}

export class Touching {
  constructor({ thumb, data, cursor, sitting, touched, plays }) {
    Object.assign(this, { thumb, data, cursor, sitting, touched, plays });
    this.going = null;
    thumb.querySelector("[data-touch-go]").addEventListener("click", () => this.toggle());
    thumb.querySelectorAll("[data-name]").forEach((button) => button.addEventListener("pointerdown", () => this.touch(button.dataset.name)));
    thumb.querySelectorAll("[data-name]").forEach((button) => button.addEventListener("keydown", (event) => event.key === "Enter" && this.touch(button.dataset.name)));
  }

  toggle() {
    return this.going ? this.stop(worded("Stopped: this one does not count.")) : this.go();
  }

  touch(name) {
    if (!this.going) return;
    const at = since(this.going.context.currentTime, this.going.starts, this.going.eachS);
    if (at === null) return;
    this.going.at.push(at);
    this.going.name.push(name);
  }

  async go() {
    const context = await this.sitting.awake();
    const { tempo, length, each, beat, road } = this.plays();
    const quarterS = 60 / (tempo * this.data.unit);
    const first = context.currentTime + BEGINS_IN_S;
    const starts = first + this.data.countOff * beat * quarterS;
    const ends = starts + length * quarterS;
    const going = { context, starts, eachS: each * quarterS, at: [], name: [] };
    this.going = going;
    this.sitting.fault("");
    this.#shown(true);
    for (let k = 0; k < this.data.countOff; k += 1) click(context, first + k * beat * quarterS, k ? 0.99 : 1);
    for (let q = 0; q < length - 1e-6; q += each) click(context, starts + q * quarterS, 0.99);
    const step = () => {
      if (this.going !== going) return;
      const time = context.currentTime - (context.outputLatency || 0);
      const counted = Math.floor((time - first) / (beat * quarterS)) + 1;
      this.thumb.querySelector("[data-beats]").textContent = counted >= 1 && time < starts ? counted : "";
      const quarters = Math.max(0, (time - starts) / quarterS);
      const at = road.findLast(([begun]) => begun <= quarters + 1e-6);
      if (at && time < ends) this.cursor.show(at[1]);
      else this.cursor.hide();
      if (time > ends + WAITS_BEATS * each * quarterS) return this.#over(going);
      requestAnimationFrame(step);
    };
    step();
  }

  #over({ at, name }) {
    this.stop();
    this.touched({ at, name });
  }

  stop(words = "") {
    this.going = null;
    this.cursor.hide();
    this.thumb.querySelector("[data-beats]").textContent = "";
    this.#shown(false);
    if (words) this.sitting.fault(words);
  }

  #shown(going) {
    this.thumb.toggleAttribute("data-touching", going);
    this.thumb.querySelector("[data-touch-go]").textContent = going ? worded("Stop") : worded("Begin");
  }
}
