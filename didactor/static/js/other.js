// A take and what lies beside it (the model, the teacher's recording, the take before): the same place in one, then in the other.

import { actionOf, typing } from "./keys.js";
import { along } from "./timing.js";
import { worded } from "./words.js";

// Seconds of the other sound for seconds of the take, and back; places: [take, other], ascending, two at least.
export function bridge(places) {
  const { seconds, quarters } = along(places);
  return { toOther: (time) => Math.max(0, seconds(time)), toTake: (time) => Math.max(0, quarters(time)) };
}

function start(box) {
  const list = JSON.parse(document.getElementById("beside-data").textContent);
  const { delay } = JSON.parse(document.getElementById("player-data").textContent);
  const take = document.querySelector("[data-take-sound]");
  const select = box.querySelector("select");
  const button = box.querySelector("button");
  const other = new Audio();
  other.preload = "none";

  const show = () => button.setAttribute("aria-pressed", String(!other.paused));
  const load = () => {
    const { sound } = list[Number(select.value)];
    if (!other.src.endsWith(sound)) other.src = sound;
  };
  other.addEventListener("play", show);
  other.addEventListener("pause", show);
  take.addEventListener("play", () => other.pause());

  async function toggle() {
    const { toOther, toTake } = bridge(list[Number(select.value)].places);
    if (!other.paused) {
      other.pause();
      take.currentTime = toTake(other.currentTime) + delay;
      return take.play();
    }
    load();
    take.pause();
    other.playbackRate = take.playbackRate;
    if (other.readyState < 1) {
      other.load();
      await new Promise((resolve) => other.addEventListener("loadedmetadata", resolve, { once: true }));
    }
    other.currentTime = toOther(take.currentTime - delay);
    return other.play().catch(() => (button.title = worded("This sound cannot be played now.")));
  }

  button.addEventListener("click", toggle);
  select.addEventListener("change", () => {
    other.pause();
    load();
  });
  document.addEventListener(
    "keydown",
    (event) => {
      if (typing(event)) return;
      const action = actionOf(event.key);
      if (action === "x") {
        event.preventDefault();
        toggle();
      } else if (action === " " && !other.paused && !event.target.closest("button, a, summary")) {
        event.preventDefault();
        event.stopImmediatePropagation();
        other.pause();
      }
    },
    true,
  );
}

// It comes when the page is there.
let box = null;
function arrive() {
  const found = document.querySelector("#other.other");
  if (!found || found === box) return;
  box = found;
  start(box);
}

if (typeof document !== "undefined") {
  arrive();
  document.addEventListener("htmx:afterSettle", arrive);
}
