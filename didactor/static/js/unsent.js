// Recordings that lie on this device and were not sent: what a closed page, an empty battery or a missing connection left.

import { canKeep, fileOf, forget, left } from "./keep.js";
import { clock } from "./timeline.js";
import { send } from "./upload.js";
import { worded } from "./words.js";

const box = document.querySelector("[data-unsent]");
const waiting = [];

function row(facts, file) {
  const item = box.querySelector("template").content.firstElementChild.cloneNode(true);
  const part = (name) => item.querySelector(name);
  const size = facts.mime ? worded("film, {megabytes} MB", { megabytes: Math.round(file.size / 1e6) }) : clock((file.size - 44) / 2 / facts.rate);
  part("[data-what]").textContent = `${facts.title}, ${size}`;
  part("[data-when]").textContent = new Date(facts.begun).toLocaleString(document.documentElement.lang, { weekday: "short", hour: "2-digit", minute: "2-digit" });
  part("audio").src = URL.createObjectURL(file);
  const give = async () => {
    part("[data-give]").disabled = true;
    const says = part("[data-how]");
    try {
      const take = await send(file, {
        url: box.dataset.uploads,
        task: facts.task,
        key: `take ${facts.task} ${facts.id}`,
        name: facts.mime ? "take.webm" : "take.wav",
        step: facts.step,
        tempo: facts.tempo,
        clicks: facts.clicks,
        backing: facts.backing,
        onProgress: (share) => (says.textContent = worded("Sent: {percent} %", { percent: Math.round(share * 100) })),
      });
      await forget(facts.id);
      return take;
    } catch (error) {
      says.textContent = error.message;
      part("[data-give]").disabled = false;
      return null;
    }
  };
  part("[data-give]").addEventListener("click", async () => {
    const take = await give();
    if (take) window.location.href = box.dataset.takePage.replace("/0/", `/${take}/`);
  });
  // What was to be sent and could not is sent by itself; what only lies here waits to be asked for.
  if (facts.wanted) waiting.push({ item, give });
  part("[data-throw]").addEventListener("click", async (event) => {
    // The first touch asks, the second one does it.
    if (event.target.dataset.asked) {
      await forget(facts.id);
      item.remove();
      box.hidden = !box.querySelector("li");
    } else {
      event.target.dataset.asked = "yes";
      event.target.textContent = worded("Throw it away for good");
    }
  });
  return item;
}

// One page at a time sends, one recording after the other.
async function sendWaiting() {
  if (!navigator.onLine || !waiting.length) return;
  await navigator.locks?.request("didactor sending", { ifAvailable: true }, async (lock) => {
    if (!lock) return;
    for (const { item, give } of [...waiting]) {
      if (!(await give())) return;
      waiting.shift();
      item.querySelector("[data-how]").textContent = worded("It is sent.");
      item.querySelectorAll("button").forEach((button) => button.remove());
    }
  });
}

async function show() {
  const list = box.querySelector("ul");
  for (const facts of await left(Number(box.dataset.person))) {
    const file = await fileOf(facts.id);
    if (file) list.append(row(facts, file));
    else await forget(facts.id);
  }
  box.hidden = !list.querySelector("li");
}

if (box && canKeep()) {
  show().then(sendWaiting);
  window.addEventListener("online", sendWaiting);
}
