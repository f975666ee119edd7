// Rendered sounds by tempo: asked for, waited for while they are made, kept decoded.

const WAIT_MS = 400;
const LONGEST_MS = 60_000;

const pause = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

export class Sounds {
  constructor(address) {
    this.address = address;
    this.kept = new Map();
  }

  // Where a sound is: { url, sound, leadS, tempo, anchors? }. what: { accompaniment: 1 }, { names: 1 }, { reference: id } or nothing for the
  // model. Throws where it cannot be had.
  async find(tempo, what = {}) {
    const body = new URLSearchParams({ tempo: String(tempo), ...what });
    const headers = { "X-CSRFToken": JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"] };
    for (let waited = 0; waited < LONGEST_MS; waited += WAIT_MS) {
      const answer = await fetch(this.address, { method: "POST", body, headers }).catch(() => null);
      if (!answer) throw new Error("There is no connection, and this sound was not heard here before. The beat alone needs none.");
      const found = await answer.json().catch(() => ({ failed: true }));
      if (found.failed) throw new Error("This sound could not be made. Play with the beat alone, and tell your teacher.");
      if (!found.waiting) return found;
      await pause(WAIT_MS);
    }
    throw new Error("The sound takes too long. Try again in a moment, or play with the beat alone.");
  }

  // The same, decoded: with a `buffer`.
  async at(context, tempo, what = {}) {
    const key = `${tempo} ${JSON.stringify(what)}`;
    if (!this.kept.has(key)) {
      const found = await this.find(tempo, what);
      const answer = await fetch(found.url).catch(() => null);
      if (!answer?.ok) throw new Error("The sound did not arrive. Try again.");
      this.kept.set(key, { ...found, buffer: await context.decodeAudioData(await answer.arrayBuffer()) });
    }
    return this.kept.get(key);
  }
}
