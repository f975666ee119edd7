// The class sheet: a bar of all takes one after the other, or one student's alone, equally loud.

import { worded } from "./words.js";
// What is to be played, in order: [row, from, to] in seconds of each take; who did not play the bar is left out.
export function column(rows, bar, only = null) {
  return rows.flatMap(({ sound, bars }, row) => (sound && bars[bar] && (!only || only.has(row)) ? [[row, ...bars[bar]]] : []));
}

function start(box) {
  const rows = JSON.parse(document.getElementById("reel-data").textContent);
  const players = new Map();
  const halt = document.querySelector("[data-halt]");
  const now = document.querySelector("[data-now]");
  const line = (row) => box.querySelector(`[data-row="${row}"]`);
  let turn = 0;

  // Opened when it is near, not all sixty at once.
  function player(row) {
    if (!players.has(row)) players.set(row, Object.assign(new Audio(rows[row].sound), { preload: "auto", volume: rows[row].gain }));
    return players.get(row);
  }

  function stop() {
    turn += 1;
    players.forEach((audio) => audio.pause());
    box.querySelectorAll(".sounds").forEach((cell) => cell.classList.remove("sounds"));
    halt.hidden = true;
    now.textContent = "";
  }

  async function one(mine, bar, [row, from, to]) {
    const audio = player(row);
    const { delay, name } = rows[row];
    audio.currentTime = Math.max(0, from + delay);
    await audio.play();
    const cell = line(row).cells[bar + 1];
    cell.classList.add("sounds");
    cell.scrollIntoView({ block: "nearest", inline: "nearest" });
    now.textContent = name;
    await new Promise((resolve) => {
      const look = () => (turn !== mine || audio.ended || audio.currentTime >= to + delay ? resolve() : requestAnimationFrame(look));
      look();
    });
    cell.classList.remove("sounds");
    if (turn === mine) audio.pause();
  }

  async function play(bar, list) {
    stop();
    const mine = turn;
    halt.hidden = false;
    try {
      for (const [k, place] of list.entries()) {
        if (turn !== mine) return;
        if (list[k + 1]) player(list[k + 1][0]);
        await one(mine, bar, place);
      }
    } catch {
      if (turn === mine) stop();
      now.textContent = worded("The sound cannot be played now. Check the connection and try again.");
      return;
    }
    if (turn === mine) stop();
  }

  document.addEventListener("click", ({ target }) => {
    const head = target.closest("[data-column]");
    const cell = target.closest("[data-cell]");
    const many = target.closest("[data-many]");
    if (head) play(Number(head.dataset.column), column(rows, Number(head.dataset.column)));
    else if (cell) {
      const row = Number(cell.closest("[data-row]").dataset.row);
      play(Number(cell.dataset.cell), column(rows, Number(cell.dataset.cell), new Set([row])));
    } else if (many) {
      const who = new Set(many.dataset.who.trim().split(" ").map(Number));
      const bar = [...box.querySelectorAll("[data-column]")].findIndex((button) => button.textContent === many.dataset.many);
      play(bar, column(rows, bar, new Set(rows.flatMap(({ take }, row) => (who.has(take) ? [row] : [])))));
    } else if (target.closest("[data-halt]")) stop();
  });
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape") stop();
  });
}

if (typeof document !== "undefined") {
  const box = document.querySelector("[data-reel]");
  if (box) start(box);
}
