// The passage desk: a note chosen on the score, by touch or by arrow keys, opens its form below.

const desk = document.querySelector("[data-notes]");

function choose(id) {
  if (!id) return;
  for (const group of desk.querySelectorAll("g.note.chosen")) group.classList.remove("chosen");
  for (const group of desk.querySelectorAll(`g.note[data-id="${CSS.escape(id)}"]`)) group.classList.add("chosen");
  window.htmx.ajax("GET", `${desk.dataset.notes}?note=${encodeURIComponent(id)}`, { target: "#note", swap: "innerHTML" });
}

// A finger is wider than a notehead: the nearest one within reach is meant.
function nearest(svg, x, y) {
  let found = null;
  let least = 40;
  for (const head of svg.querySelectorAll("g.note[data-id] g.notehead")) {
    const box = head.getBoundingClientRect();
    const away = Math.hypot(x - box.x - box.width / 2, y - box.y - box.height / 2);
    if (away < least) [found, least] = [head.closest("g.note"), away];
  }
  return found?.dataset.id;
}

function start() {
  for (const svg of desk.querySelectorAll("svg.score")) svg.classList.add("listen");
  const sheet = desk.querySelector("[data-sheet]");
  sheet.tabIndex = 0;
  sheet.addEventListener("click", (event) => {
    const svg = event.target.closest("svg.score");
    if (svg) choose(event.target.closest("g.note[data-id]")?.dataset.id ?? nearest(svg, event.clientX, event.clientY));
  });
  sheet.addEventListener("keydown", (event) => {
    const step = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    if (!step) return;
    event.preventDefault();
    const shown = [...sheet.querySelectorAll("svg.score")].find((svg) => svg.getBoundingClientRect().width > 0);
    const notes = [...shown.querySelectorAll("g.note[data-id]")];
    const at = notes.findIndex((group) => group.classList.contains("chosen"));
    choose(notes[Math.max(0, Math.min(notes.length - 1, at < 0 ? 0 : at + step))]?.dataset.id);
  });
}

if (desk) start();
