// Tuning by ear first: the tone sounds, one plays it, says flat, in tune or sharp, and then sees by how much.

import { told } from "./answered.js";
import { Tap, microphone } from "./microphone.js";
import { wavFrom } from "./wav.js";
import { worded } from "./words.js";

const SOUNDS_S = 2.5;
const PLAYED_S = 3;
// Of the tone's partials the first few, so that it is easy to hear beside an instrument.
const PARTIALS = [1, 0.5, 0.3, 0.2];

const data = JSON.parse(document.getElementById("playing-data").textContent);
const box = document.querySelector("[data-tuning]");
const part = (name) => box.querySelector(name);
const say = (text) => (part("[data-tuning-says]").textContent = text);
const pause = (seconds) => new Promise((resolve) => setTimeout(resolve, seconds * 1000));
let answer = null;
let busy = false;

export const hertz = (midi) => 440 * 2 ** ((midi - 69) / 12);

function tone(context, midi) {
  const level = context.createGain();
  level.gain.setValueAtTime(0, context.currentTime);
  level.gain.linearRampToValueAtTime(0.25, context.currentTime + 0.05);
  level.gain.setValueAtTime(0.25, context.currentTime + SOUNDS_S - 0.3);
  level.gain.linearRampToValueAtTime(0, context.currentTime + SOUNDS_S);
  level.connect(context.destination);
  PARTIALS.forEach((strength, k) => {
    const source = context.createOscillator();
    const own = context.createGain();
    source.frequency.value = hertz(midi) * (k + 1);
    own.gain.value = strength;
    source.connect(own).connect(level);
    source.start();
    source.stop(context.currentTime + SOUNDS_S);
  });
}

async function begin() {
  if (busy) return;
  busy = true;
  answer = null;
  part("[data-tuning-guess]").hidden = true;
  const context = new AudioContext();
  try {
    const stream = await microphone();
    await context.resume();
    const midi = Number(part("[data-tone]").value);
    say(worded("Listen."));
    tone(context, midi);
    await pause(SOUNDS_S + 0.3);
    const blocks = [];
    const tap = new Tap(context, stream, (block) => blocks.push(block));
    await tap.open();
    say(worded("Now play it, long and even."));
    await pause(PLAYED_S);
    await tap.finish();
    say(worded("Was it flat, in tune or sharp?"));
    part("[data-tuning-guess]").hidden = false;
    answer = measured(wavFrom(blocks, context.sampleRate), midi);
  } catch (error) {
    say(error.message);
  }
  await context.close().catch(() => {});
  busy = false;
}

async function measured(file, midi) {
  const headers = { "X-CSRFToken": JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"], "Content-Type": "audio/wav" };
  const response = await fetch(`${data.tuning}?tone=${midi}`, { method: "POST", body: file, headers }).catch(() => null);
  if (!response) return { says: worded("There is no connection to measure it. Trust your ear.") };
  return told(response);
}

const GUESSES = { flat: worded("flat"), sharp: worded("sharp"), "in tune": worded("in tune") };

// What was said beside what it was.
export function verdict(guess, { cents, called, says }) {
  if (says) return says;
  const size = { flat: worded("{cents} cents flat", { cents: Math.abs(cents) }), sharp: worded("{cents} cents sharp", { cents: Math.abs(cents) }), "in tune": worded("within {cents} cents", { cents: Math.max(1, Math.abs(cents)) }) }[called];
  return guess === called ? worded("So it is: {size}.", { size }) : worded("You said {guess}; it is {size}.", { guess: GUESSES[guess], size });
}

async function guess(word) {
  part("[data-tuning-guess]").hidden = true;
  say(worded("Measuring …"));
  say(verdict(word, await answer));
}

document.querySelector("[data-tune]").addEventListener("click", () => {
  box.hidden = false;
  document.querySelector("[data-says]").textContent = "";
  say(worded("The tone sounds first. Then you play it, and say how it was before you see it."));
});
part("[data-tuning-begin]").addEventListener("click", begin);
part("[data-tuning-done]").addEventListener("click", () => (box.hidden = true));
part("[data-tuning-guess]").addEventListener("click", (event) => event.target.dataset.guess && guess(event.target.dataset.guess));
