// Before the first take of a day: a few seconds are recorded, played back, and judged by the server as a take's sound is judged.

import { told } from "./answered.js";
import { Tap, chooseInput, chosenInput, microphone, processing } from "./microphone.js";
import { click } from "./metronome.js";
import { inTake } from "./timeline.js";
import { LATE } from "./upload.js";
import { wavFrom } from "./wav.js";
import { worded } from "./words.js";

const SECONDS = 5;
const CLICKS = 4;
const LAST = "didactor checked";

const data = JSON.parse(document.getElementById("playing-data").textContent);
const thumb = document.querySelector(".thumb");
const part = (name) => thumb.querySelector(name);
const say = (text) => (part("[data-sound-says]").textContent = text);
const today = () => new Date().toDateString();
let busy = false;

async function inputs() {
  const devices = (await navigator.mediaDevices.enumerateDevices()).filter((device) => device.kind === "audioinput");
  const select = part("[data-input]");
  select.replaceChildren(...devices.map((device, i) => new Option(device.label || worded("Input {number}", { number: i + 1 }), device.deviceId)));
  select.value = chosenInput() || devices[0]?.deviceId || "";
}

async function check() {
  if (busy) return;
  busy = true;
  part("[data-says]").textContent = "";
  part("[data-sound]").hidden = false;
  part("[data-sound-listen]").hidden = true;
  let context = null;
  try {
    const stream = await microphone();
    await inputs();
    context = new AudioContext();
    await context.resume();
    const blocks = [];
    const tap = new Tap(context, stream, (block) => blocks.push(block));
    await tap.open();
    // Nobody plays yet: four clicks tell how late this device records what it plays.
    const clicks = [];
    say(worded("First four clicks: do not play yet."));
    for (let k = 0; k < CLICKS; k += 1) {
      const at = context.currentTime + 0.4 + k * 0.35;
      click(context, at, 1);
      clicks.push(at + (context.outputLatency || 0));
    }
    await new Promise((resolve) => setTimeout(resolve, 400 + CLICKS * 350 + 400));
    for (let left = SECONDS; left > 0; left -= 1) {
      say(worded("Play a few notes, the loudest ones too: {left}", { left }));
      await new Promise((resolve) => setTimeout(resolve, 1000));
    }
    const interferes = processing(stream);
    await tap.finish();
    const file = wavFrom(blocks, context.sampleRate);
    part("[data-sound-listen]").src = URL.createObjectURL(file);
    part("[data-sound-listen]").hidden = false;
    say(worded("Judging it …"));
    await judge(file, interferes, inTake(clicks, tap.startsAt));
  } catch (error) {
    say(error.message);
  }
  await context?.close().catch(() => {});
  busy = false;
}

async function judge(file, interferes, clicks) {
  const headers = { "X-CSRFToken": JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"], "Content-Type": "audio/wav" };
  const answer = await fetch(`${data.check}?clicks=${clicks.map((time) => time.toFixed(3)).join("+")}`, { method: "POST", body: file, headers }).catch(() => null);
  if (!answer) throw new Error(worded("There is no connection to judge it. Listen yourself: loud enough, clean, whole?"));
  const found = await told(answer);
  const besides = interferes.length ? [worded("This browser changes the sound ({how}): the ear judges that with care.", { how: interferes.join(", ") })] : [];
  say([found.says, ...besides].flat().join(" "));
  if (typeof found.late === "number" && found.late >= 0) localStorage.setItem(LATE, found.late.toFixed(3));
  if (found.good) localStorage.setItem(LAST, today());
}

part("[data-sound-check]")?.addEventListener("click", check);
part("[data-sound-again]").addEventListener("click", check);
part("[data-sound-done]").addEventListener("click", () => (part("[data-sound]").hidden = true));
part("[data-input]").addEventListener("change", (event) => {
  chooseInput(event.target.value);
  check();
});
if (localStorage.getItem(LAST) !== today() && !part("[data-says]").textContent) part("[data-says]").textContent = worded("The first time today on this device: check the sound before you record.");
