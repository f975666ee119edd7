// Two takes, the same place one after the other and equally loud.

import { worded } from "./words.js";
const spanOf = (text) => text?.split(" ").map(Number) ?? null;

// What is to be played, in order: [which take, from, to] in seconds of the takes; a bar that one of them lacks plays in the other alone.
export function places(buttons) {
  return buttons.flatMap((button) => [spanOf(button.dataset.first), spanOf(button.dataset.second)].flatMap((span, take) => (span ? [[take, ...span]] : [])));
}

function start(box) {
  const data = JSON.parse(document.getElementById("beside-data").textContent);
  const players = data.map(({ sound, gain }) => Object.assign(new Audio(sound), { preload: "auto", volume: gain }));
  const buttons = [...box.querySelectorAll("[data-bar][data-first], [data-bar][data-second]")];
  const halt = box.querySelector("[data-halt]");
  const now = box.querySelector("[data-now]");
  let turn = 0;

  const stop = () => {
    turn += 1;
    players.forEach((player) => player.pause());
    halt.hidden = true;
    now.textContent = "";
  };

  async function one(mine, take, from, to) {
    const player = players[take];
    player.currentTime = Math.max(0, from + data[take].delay - 0.05);
    await player.play();
    await new Promise((resolve) => {
      const look = () => (turn !== mine || player.ended || player.currentTime >= to + data[take].delay ? resolve() : requestAnimationFrame(look));
      look();
    });
    if (turn === mine) player.pause();
  }

  async function play(list, words) {
    stop();
    const mine = turn;
    halt.hidden = false;
    now.textContent = words;
    try {
      for (const [take, from, to] of list) if (turn === mine) await one(mine, take, from, to);
    } catch {
      now.textContent = worded("The sound cannot be played now. Check the connection and try again.");
    }
    if (turn === mine) stop();
  }

  box.addEventListener("click", (event) => {
    const bar = event.target.closest("[data-bar]");
    const whole = event.target.closest("[data-whole]");
    if (bar) {
      const button = buttons.find((other) => other.dataset.bar === bar.dataset.bar);
      if (button) play(places([button]), worded("Bar {bar}", { bar: button.parentElement.textContent.trim() }));
    } else if (whole) play([[Number(whole.dataset.whole), 0, Infinity]], whole.dataset.whole === "0" ? "A" : "B");
    else if (event.target.closest("[data-all]")) play(places(buttons), worded("Bar by bar"));
    else if (event.target.closest("[data-halt]")) stop();
  });
}

if (typeof document !== "undefined") {
  const box = document.querySelector("[data-beside]");
  if (box) start(box);
}
