// The page of one drill: go after go, what each one was, and the table of the changes. The server judges.

import { told } from "./answered.js";
import { post, sendKept } from "./attempt.js";
import { Cursor } from "./cursor.js";
import { pedals } from "./pedals.js";
import { Sitting } from "./sitting.js";
import { Touching } from "./touching.js";
import { figure, worded } from "./words.js";

const data = JSON.parse(document.getElementById("practice-data").textContent);
const stage = document.querySelector("[data-stage]");
const thumb = document.querySelector("[data-recorder]");
const part = (name) => thumb.querySelector(name);
const sheet = stage.querySelector("[data-sheet]");
const cursor = new Cursor(sheet, stage, data);
let now = data.now;
const sitting = new Sitting({ stage, thumb, data, cursor, page: { plays: () => now?.next, told: ({ drill }) => show(drill), goesOn: () => true, ready: (plays) => ask(plays.prompt) } });
const touching = now.next.touched ? new Touching({ thumb, data, cursor, sitting, touched, plays: () => now.next }) : null;

function show(drill) {
  if (drill) now = drill;
  part("[data-tempo]").textContent = now.next.prompt ? "" : worded("at {tempo}", { tempo: now.next.tempo });
  part("[data-says]").textContent = now.goes ? worded("{good} of {goes} without a fault.", now) : "";
  stage.querySelectorAll("rect.bar").forEach((rect) => rect.classList.toggle("at-work", !now.next.marks.length && now.next.shown.includes(rect.dataset.bar)));
  cells();
  ask(now.next.prompt);
}

// From what to what, and how late: the slowest first.
function cells() {
  const table = stage.querySelector("[data-cells]");
  if (!table) return;
  table.hidden = !now.cells.length;
  const most = Math.max(0.1, ...now.cells.map((cell) => cell.late ?? 0));
  table.querySelector("tbody").replaceChildren(
    ...now.cells.map(({ before, after, late, count, wrong }) => {
      const row = document.createElement("tr");
      const words = late === null ? worded("too few yet") : late < 0.03 ? worded("in time") : worded("{seconds} s late", { seconds: figure(late, 2) });
      for (const text of [worded("{before} to {after}", { before, after }), words, String(count), wrong ? String(wrong) : ""]) row.append(Object.assign(document.createElement("td"), { textContent: text }));
      const bar = document.createElementNS("http://www.w3.org/2000/svg", "svg");
      bar.setAttribute("viewBox", "0 0 100 8");
      bar.setAttribute("preserveAspectRatio", "none");
      bar.setAttribute("aria-hidden", "true");
      const rect = document.createElementNS("http://www.w3.org/2000/svg", "rect");
      rect.setAttribute("width", String(Math.max(0, (100 * (late ?? 0)) / most)));
      rect.setAttribute("height", "8");
      bar.append(rect);
      row.children[1].append(bar);
      return row;
    }),
  );
}

// What is asked for, large; where it stands in the score is shown there.
function ask(prompt) {
  sheet.querySelectorAll(".asked").forEach((note) => note.classList.remove("asked"));
  for (const id of now.next.marks) sheet.querySelectorAll(`g.note[data-id="${CSS.escape(id)}"]`).forEach((note) => note.classList.add("asked"));
  const asked = stage.querySelector("[data-asked]");
  if (!asked || !prompt) return;
  asked.querySelector("[data-asked-name]").textContent = prompt.name;
  asked.querySelector("[data-asked-where]").textContent = prompt.where;
}

async function touched({ at, name }) {
  const { kind, of, tempo } = now.next;
  const body = new URLSearchParams({ id: crypto.randomUUID(), kind, of, tempo: String(tempo) });
  at.forEach((when, k) => {
    body.append("at", when.toFixed(3));
    body.append("name", name[k]);
  });
  const answer = await post(data.touched, body).catch(() => null);
  if (!answer) return sitting.fault(worded("There is no connection: this one was not counted."));
  const found = await told(answer);
  if (!answer.ok) return sitting.fault(found.says);
  sitting.tell(found);
}

part("[data-hear]")?.addEventListener("click", () => sitting.hear(now.next));
pedals(() => {
  const onAndOff = touching ? () => touching.toggle() : () => (sitting.sits ? sitting.rest() : sitting.go());
  return { " ": onAndOff, PageDown: onAndOff };
});
window.addEventListener("online", () => sendKept(data).then((told) => told && !sitting.attempt && show(told.drill)));
show();
sendKept(data).then((told) => told?.drill && show(told.drill));
