// Looking through a passage: notes and bars are answered by touching them; one question is in view at a time. The form's own fields hold
// what is said, so the list does the same.

import { worded } from "./words.js";
const NEAR = 26;
const form = document.querySelector("[data-questions]");
const stage = document.querySelector("[data-stage]");
const fields = [...(form?.querySelectorAll("[data-question]") ?? [])];
let at = 0;

const svgs = () => stage.querySelectorAll("svg.score");
const shown = () => [...svgs()].find((svg) => svg.getBoundingClientRect().width > 0);

function show() {
  fields.forEach((field, index) => (field.hidden = index !== at));
  const last = at === fields.length - 1;
  form.querySelector("[data-next]").hidden = last;
  form.querySelector("[data-done]").hidden = !last;
  const bar = fields[at].dataset.bar ?? form.elements.hardest?.value;
  const framed = ["counts", "hardest"].includes(fields[at].dataset.question) ? bar : null;
  stage.querySelectorAll("rect.bar").forEach((rect) => rect.classList.toggle("looped", rect.dataset.bar === framed));
  if (fields[at].dataset.question === "counts") shown()?.querySelector("rect.bar.looped")?.scrollIntoView({ block: "center" });
}

function showNotes() {
  const chosen = new Set([...form.querySelectorAll("[name=key]:checked")].map((box) => box.value));
  svgs().forEach((svg) => svg.querySelectorAll("g.note[data-id]").forEach((note) => note.classList.toggle("touched", chosen.has(note.dataset.id))));
  const count = form.querySelector("[data-count]");
  if (count) count.textContent = chosen.size || worded("None");
}

// The note whose head is nearest to a point, within a finger's width.
export function nearest(heads, x, y, within = NEAR) {
  const far = ([, cx, cy]) => Math.hypot(cx - x, cy - y);
  const best = heads.reduce((found, head) => (found === null || far(head) < far(found) ? head : found), null);
  return best && far(best) <= within ? best[0] : null;
}

function heads() {
  return [...shown().querySelectorAll("g.note[data-id]")].map((note) => {
    const box = (note.querySelector("g.notehead") ?? note).getBoundingClientRect();
    return [note.dataset.id, box.left + box.width / 2, box.top + box.height / 2];
  });
}

function touch(event) {
  const question = fields[at].dataset.question;
  if (question === "key") {
    const id = nearest(heads(), event.clientX, event.clientY);
    const box = id && form.querySelector(`[name=key][value="${CSS.escape(id)}"]`);
    if (!box) return;
    box.checked = !box.checked;
    showNotes();
  } else if (question === "hardest") {
    const bar = document.elementsFromPoint(event.clientX, event.clientY).find((element) => element.matches("rect.bar"))?.dataset.bar;
    if (!bar) return;
    form.elements.hardest.value = bar;
    show();
  }
}

if (form) {
  stage.addEventListener("click", touch);
  form.addEventListener("change", () => {
    showNotes();
    show();
  });
  form.querySelector("[data-next]").addEventListener("click", () => {
    at += 1;
    show();
    fields[at].querySelector("select, input")?.focus({ preventScroll: true });
  });
  show();
  showNotes();
}
