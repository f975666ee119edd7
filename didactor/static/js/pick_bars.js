// Dragging over the engraved bars writes their range into a field; typing into the field shows it on the score.

import { rangeOf } from "./ranges.js";

function bars(sheet) {
  return [...sheet.querySelectorAll("rect.bar")];
}

function show(sheet, from, to) {
  for (const svg of sheet.querySelectorAll("svg.score")) {
    const all = [...svg.querySelectorAll("rect.bar")];
    const numbers = all.map((rect) => rect.dataset.bar);
    const a = numbers.indexOf(from);
    const b = numbers.lastIndexOf(to);
    all.forEach((rect, index) => rect.classList.toggle("chosen", a >= 0 && b >= 0 && index >= Math.min(a, b) && index <= Math.max(a, b)));
  }
}

function order(sheet, one, other) {
  const numbers = bars(sheet).map((rect) => rect.dataset.bar);
  return numbers.indexOf(one) <= numbers.indexOf(other) ? [one, other] : [other, one];
}

function start(sheet) {
  const field = document.querySelector(sheet.dataset.pick);
  for (const svg of sheet.querySelectorAll("svg.score")) svg.classList.add("pick");
  let from = null;
  const barUnder = (event) => document.elementsFromPoint(event.clientX, event.clientY).find((e) => e.matches("rect.bar"));
  const stretch = (event) => {
    const rect = barUnder(event);
    if (from === null || !rect) return;
    const [first, last] = order(sheet, from, rect.dataset.bar);
    field.value = rangeOf(first, last);
    show(sheet, first, last);
  };
  sheet.addEventListener("pointerdown", (event) => {
    const rect = barUnder(event);
    if (!rect || event.button !== 0) return;
    from = rect.dataset.bar;
    if (event.pointerType === "mouse") event.preventDefault();
    stretch(event);
  });
  sheet.addEventListener("pointermove", stretch);
  window.addEventListener("pointerup", () => (from = null));
  const typed = () => {
    const match = field.value.match(/^\s*(\w+)\s*(?:[-–]\s*(\w+))?\s*$/);
    if (match) show(sheet, match[1], match[2] || match[1]);
  };
  field.addEventListener("input", typed);
  // A proposed segment fills the field as if it had been typed.
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-bars]");
    if (!button) return;
    field.value = button.dataset.bars;
    typed();
  });
  typed();
}

document.querySelectorAll("[data-pick]").forEach(start);
