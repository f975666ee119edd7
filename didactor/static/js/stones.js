// The stones of a crossing on the score: a stone that is won lies on deeper paper, the one at work is framed, good attempts are strokes
// under it, a join is a small bridge over its bar line. What they are is reckoned by the server.

import { worded } from "./words.js";
// The stretches of a stone by system: bars from `first` to `last` in the order of the score. boxes: { number, left, right, top, bottom }.
export function stretches(boxes, first, last) {
  const from = boxes.findIndex((box) => box.number === first);
  const to = boxes.findLastIndex((box) => box.number === last);
  if (from < 0 || to < from) return [];
  const found = [];
  for (const box of boxes.slice(from, to + 1)) {
    const open = found.at(-1);
    if (open && Math.abs(open.top - box.top) < 4) open.right = box.right;
    else found.push({ left: box.left, right: box.right, top: box.top, bottom: box.bottom });
  }
  return found;
}

// “Never faster than clean”: bars next to each other that were faultless at the same tempo, by system.
export function cleanStretches(boxes, clean) {
  const found = [];
  for (const box of boxes) {
    const tempo = clean[box.number];
    const open = found.at(-1);
    if (tempo === undefined) found.push(null);
    else if (open && open.tempo === tempo && Math.abs(open.top - box.top) < 4) open.right = box.right;
    else found.push({ tempo, left: box.left, right: box.right, top: box.top });
  }
  return found.filter(Boolean);
}

export class Stones {
  constructor(sheet) {
    this.sheet = sheet;
    this.layer = document.createElement("div");
    this.layer.className = "stones";
    sheet.prepend(this.layer);
    this.data = null;
    new ResizeObserver(() => this.draw(this.data)).observe(sheet);
  }

  boxes() {
    const svg = [...this.sheet.querySelectorAll("svg.score")].find((e) => e.getBoundingClientRect().width > 0);
    const frame = this.sheet.getBoundingClientRect();
    return [...(svg?.querySelectorAll("rect.bar") ?? [])].map((rect) => {
      const box = rect.getBoundingClientRect();
      return { number: rect.dataset.bar, left: box.left - frame.left, right: box.right - frame.left, top: box.top - frame.top, bottom: box.bottom - frame.top };
    });
  }

  draw(data) {
    this.data = data;
    this.layer.replaceChildren();
    if (!data) return;
    const boxes = this.boxes();
    for (const stone of data.stones.filter((one) => one.kind === "own")) this.#stone(boxes, stone, data.at);
    for (const stone of data.stones.filter((one) => one.kind === "join")) this.#bridge(boxes, stone, data.at);
    for (const { tempo, left, right, top } of cleanStretches(boxes, data.clean ?? {})) {
      const line = this.#put("clean-line", { left: left + 4, top: top + 2, width: right - left - 8, height: 0 });
      line.append(Object.assign(document.createElement("span"), { textContent: worded("clean at {tempo}", { tempo }) }));
    }
    const whole = data.stones.find((one) => one.kind === "whole");
    if (whole && (data.at === whole.name || whole.firm)) this.#stone(boxes, whole, data.at);
  }

  #put(kind, { left, top, width, height }) {
    const box = this.layer.appendChild(document.createElement("div"));
    box.className = kind;
    Object.assign(box.style, { left: `${left}px`, top: `${top}px`, width: `${width}px`, height: `${height}px` });
    return box;
  }

  #stone(boxes, stone, at) {
    const parts = stretches(boxes, stone.first, stone.last);
    parts.forEach((part, index) => {
      const box = this.#put("stone", { left: part.left + 2, top: part.top, width: part.right - part.left - 4, height: part.bottom - part.top });
      box.classList.toggle("firm", stone.firm);
      box.classList.toggle("shaken", stone.shaken);
      box.classList.toggle("at", stone.name === at);
      if (index === parts.length - 1 && (stone.name === at || (stone.tally && !stone.firm))) box.append(tally(stone));
    });
  }

  #bridge(boxes, stone, at) {
    const [left] = stretches(boxes, stone.first, stone.first).slice(-1);
    const [right] = stretches(boxes, stone.last, stone.last);
    if (!left || !right) return;
    const same = Math.abs(left.top - right.top) < 4;
    const reach = 16;
    const box = this.#put("bridge", { left: left.right - reach, top: left.bottom - 9, width: same ? 2 * reach : reach, height: 14 });
    box.classList.toggle("firm", stone.firm);
    box.classList.toggle("at", stone.name === at);
    if (stone.name !== at) return;
    for (const part of stretches(boxes, stone.first, stone.last)) {
      const frame = this.#put("stone at", { left: part.left + 2, top: part.top, width: part.right - part.left - 4, height: part.bottom - part.top });
      if (part === left || part.right >= right.right - 1) frame.append(tally(stone));
    }
  }
}

// Strokes for good attempts, short marks for those that are still needed.
export function tally(stone) {
  const svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
  const step = 13;
  svg.setAttribute("class", "tally");
  svg.setAttribute("viewBox", `0 0 ${step * stone.need + 4} 26`);
  svg.setAttribute("width", String(step * stone.need + 4));
  svg.setAttribute("height", "26");
  svg.setAttribute("role", "img");
  svg.setAttribute("aria-label", worded("{tally} of {need}", stone));
  for (let k = 0; k < stone.need; k += 1) {
    const line = svg.appendChild(document.createElementNS("http://www.w3.org/2000/svg", "path"));
    const x = 6 + step * k;
    line.setAttribute("d", k < stone.tally ? `M${x + 3},3 L${x - 3},23` : `M${x},20 L${x},23`);
    line.setAttribute("class", k < stone.tally ? "won" : "open");
  }
  return svg;
}
