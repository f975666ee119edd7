// Sends a chosen recording in pieces, with progress; without this script the form sends it whole.

import { send } from "./upload.js";
import { worded } from "./words.js";

const LARGEST = 1024 ** 3;

const data = JSON.parse(document.getElementById("recorder-data")?.textContent ?? "null");
const form = document.querySelector("[data-upload]");
const part = (name) => document.querySelector(`[data-sending] ${name}`);
const say = (text) => (part("[data-says]").textContent = text);
const leaving = (event) => event.preventDefault();

async function deliver(file) {
  const progress = part("[data-progress]");
  const bar = progress.querySelector("progress");
  const words = progress.querySelector("span");
  progress.hidden = false;
  say("");
  window.addEventListener("beforeunload", leaving);
  try {
    const take = await send(file, {
      url: data.uploads,
      task: data.task,
      key: `file ${data.task} ${file.name} ${file.size} ${file.lastModified}`,
      name: file.name,
      step: form.querySelector("[data-step]")?.value ?? "",
      tempo: form.querySelector("[data-own-tempo]")?.value ?? "",
      onProgress: (share) => {
        bar.value = share;
        words.textContent = worded("Sent: {percent} %", { percent: Math.round(share * 100) });
      },
    });
    window.removeEventListener("beforeunload", leaving);
    window.location.href = data.takePage.replace("/0/", `/${take}/`);
  } catch (error) {
    window.removeEventListener("beforeunload", leaving);
    progress.hidden = true;
    say(error.message);
  }
}

form?.addEventListener("submit", (event) => {
  const file = form.querySelector("input[type=file]").files[0];
  if (!file) return;
  event.preventDefault();
  if (file.size > LARGEST) return say(worded("The file is larger than 1 GiB. Record the passage alone, or send sound without video."));
  if (file.size === 0) return say(worded("The file is empty. Choose another one."));
  deliver(file);
});
