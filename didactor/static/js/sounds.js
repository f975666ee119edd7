// Rendered sounds by tempo: asked for, waited for while they are made, kept decoded.

import { told } from "./answered.js";
import { worded } from "./words.js";
// Mostly it is there within a second or two; where many wait for theirs, asking often would only hold up the machine that makes them.
const WAIT_MS = 400;
const LONGER = 1.25;
const MOST_MS = 3000;
const LONGEST_MS = 60_000;

const pause = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

export class Sounds {
  // onFound: called with every sound that is there, so that it can be kept.
  constructor(address, onFound = () => {}) {
    this.address = address;
    this.onFound = onFound;
    this.kept = new Map();
  }

  // Where a sound is: { url, sound, leadS, tempo, anchors? }. what: { accompaniment: 1 }, { names: 1 }, { reference: id } or nothing for the
  // model. Throws where it cannot be had.
  async find(tempo, what = {}) {
    const body = new URLSearchParams({ tempo: String(tempo), ...what });
    const headers = { "X-CSRFToken": JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"] };
    let wait = WAIT_MS;
    for (let waited = 0; waited < LONGEST_MS; waited += wait, wait = Math.min(MOST_MS, wait * LONGER)) {
      const answer = await fetch(this.address, { method: "POST", body, headers }).catch(() => null);
      const known = answer ? null : this.#known(body);
      if (known) return known;
      if (!answer) throw new Error(worded("There is no connection, and this sound was not heard here before. The beat alone needs none."));
      const found = await told(answer);
      if (found.says) throw new Error(found.says);
      if (found.failed) throw new Error(worded("This sound could not be made. Play with the beat alone, and tell your teacher."));
      if (!found.waiting) {
        this.#remember(body, found);
        return found;
      }
      await pause(wait);
    }
    throw new Error(worded("The sound takes too long. Try again in a moment, or play with the beat alone."));
  }

  // What was answered before, for when there is no connection: where a sound is does not change.
  #known(body) {
    return JSON.parse(globalThis.localStorage?.getItem(`didactor ${this.address}?${body}`) ?? "null");
  }

  #remember(body, found) {
    try {
      globalThis.localStorage?.setItem(`didactor ${this.address}?${body}`, JSON.stringify(found));
    } catch {
      // No room: then it is only heard with a connection.
    }
    this.onFound(found);
  }

  // The same, decoded: with a `buffer`.
  async at(context, tempo, what = {}) {
    const key = `${tempo} ${JSON.stringify(what)}`;
    if (!this.kept.has(key)) {
      const found = await this.find(tempo, what);
      const answer = await fetch(found.url).catch(() => null);
      if (!answer?.ok) throw new Error(worded("The sound did not arrive. Try again."));
      this.kept.set(key, { ...found, buffer: await context.decodeAudioData(await answer.arrayBuffer()) });
    }
    return this.kept.get(key);
  }
}
