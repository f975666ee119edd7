// Of the demo: a recording is left on this device, as if the connection had been away when it was made. Done twice it lies there once.

import { Keeping, canKeep, left } from "./keep.js";
import { worded } from "./words.js";

const box = document.querySelector("[data-leave]");
const { sound, title } = box.dataset;
const [task, person] = [Number(box.dataset.task), Number(box.dataset.person)];

async function leave() {
  if (!canKeep()) return worded("This browser keeps nothing on the device.");
  if ((await left(person)).some((facts) => facts.task === task)) return worded("It lies there already.");
  const context = new OfflineAudioContext(1, 1, 48000);
  const heard = await context.decodeAudioData(await (await fetch(sound)).arrayBuffer());
  const keeping = new Keeping({ id: crypto.randomUUID(), task, title, person, rate: heard.sampleRate, step: "", tempo: "", clicks: [], backing: "" });
  keeping.add(heard.getChannelData(0));
  const whole = await keeping.finish();
  keeping.free();
  return whole ? worded("It lies there now.") : worded("There is no room on this device.");
}

leave()
  .catch(() => worded("It could not be put there. Load this page again."))
  .then((said) => (box.textContent = said));
