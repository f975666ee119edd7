// The microphone: asked for without the browser's processing, from the input that was chosen, handed on block by block.

import { worded } from "./words.js";
const CHOSEN = "didactor input";

// The input that was chosen on this device; empty for the browser's own choice.
export const chosenInput = () => globalThis.localStorage?.getItem(CHOSEN) ?? "";
export const chooseInput = (id) => (id ? globalThis.localStorage.setItem(CHOSEN, id) : globalThis.localStorage.removeItem(CHOSEN));

// An open microphone. Throws with words that say what to do.
export async function microphone() {
  if (!navigator.mediaDevices?.getUserMedia) {
    throw new Error(worded("This page may not use the microphone: it needs a secure address (https). Sending a recording works without."));
  }
  const wanted = chosenInput();
  const audio = { echoCancellation: false, noiseSuppression: false, autoGainControl: false, ...(wanted ? { deviceId: { ideal: wanted } } : {}) };
  try {
    return await navigator.mediaDevices.getUserMedia({ audio });
  } catch (error) {
    const reason = error.name === "NotAllowedError" ? worded("The microphone is not allowed. Allow it in the browser’s address bar, then press Record again.") : worded("No microphone was found. Plug one in, or send a recording made elsewhere.");
    throw new Error(reason);
  }
}

// What the browser does to the sound although it was asked not to, in words.
export function processing(stream) {
  const set = stream.getAudioTracks?.()[0]?.getSettings?.() ?? {};
  const names = { echoCancellation: worded("takes echoes out"), noiseSuppression: worded("takes noise out"), autoGainControl: worded("changes the level by itself") };
  return Object.entries(names).filter(([name]) => set[name] === true).map(([, words]) => words);
}

// Hands on every block of an open microphone. `startsAt` is when its first sample was taken, on the audio clock, known once it is open;
// `finish` waits for the last block and lets the microphone go.
export class Tap {
  constructor(context, stream, onBlock) {
    Object.assign(this, { context, stream, onBlock, startsAt: null });
  }

  async open() {
    await this.context.audioWorklet.addModule(document.querySelector("script[data-worklet]").dataset.worklet);
    this.node = new AudioWorkletNode(this.context, "capture", { numberOfOutputs: 0 });
    const started = new Promise((begun) => {
      this.finished = new Promise((resolve) => {
        this.node.port.onmessage = ({ data: block }) => {
          if (block === null) return resolve();
          if (block.startsAt === undefined) return this.onBlock(block);
          this.startsAt = block.startsAt;
          begun();
        };
      });
    });
    this.context.createMediaStreamSource(this.stream).connect(this.node);
    await started;
  }

  async finish() {
    this.node.port.postMessage("finish");
    await this.finished;
    this.stream.getTracks().forEach((track) => {
      track.onended = null;
      track.stop();
    });
  }
}
