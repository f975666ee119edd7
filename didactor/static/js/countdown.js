// The preparation clock: counts down to playing; the page was made with the seconds that are left.

import { worded } from "./words.js";
const line = document.querySelector("[data-countdown]");

function start() {
  const ends = performance.now() + Number(line.dataset.countdown) * 1000;
  const tick = () => {
    const left = Math.ceil((ends - performance.now()) / 1000);
    if (left > 0) {
      line.querySelector("b").textContent = String(left);
      return;
    }
    line.textContent = worded("Your time to read it is over: play.");
    clearInterval(running);
  };
  const running = setInterval(tick, 250);
}

if (line && Number(line.dataset.countdown) > 0) start();
