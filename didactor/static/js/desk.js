// The teacher's desk: a touch on a bar or a note pins the next remark there; keys move through marks.

import { actionOf, typing } from "./keys.js";
import { filled, nameOf } from "./phrases.js";
import { noteAt } from "./timeline.js";
import { worded } from "./words.js";

const answer = document.querySelector("form[data-answer]");
const fields = (name) => document.querySelector(`[data-remark] [name="${name}"]`);

// While somebody plays in the room, a touch is a mark at once: there is no time to write.
const live = document.querySelector("[data-live]");
function markAtOnce(bar, noteId) {
  const chosen = live.querySelector("input:checked");
  const token = document.querySelector("#answer [name=csrfmiddlewaretoken]").value;
  const values = { bar, note_id: noteId, category: chosen.value, text: `${chosen.dataset.title}.`, csrfmiddlewaretoken: token };
  window.htmx.ajax("POST", live.dataset.live, { target: "#marks", values });
}

function pin(bar, noteId) {
  if (live) return markAtOnce(bar, noteId);
  if (!fields("bar")) return;
  fields("bar").value = bar;
  fields("note_id").value = noteId;
  document.querySelector("[data-pinned]").textContent = noteId ? worded("pinned to the note") : "";
  document.querySelectorAll("rect.bar").forEach((rect) => rect.classList.toggle("pinned", rect.dataset.bar === bar));
}

let from = null;
document.addEventListener("pointerdown", (event) => (from = event.target.closest("rect.bar")));
document.addEventListener("pointerup", (event) => {
  const rect = event.target.closest?.("rect.bar");
  if (rect && rect === from) pin(rect.dataset.bar, "");
});
document.addEventListener("click", (event) => {
  const note = event.target.closest("svg.score g.note[data-id]");
  if (!note) return;
  const measure = note.closest('g[data-class="measure"]');
  const rects = [...note.closest("svg.score").querySelectorAll("rect.bar")];
  const frame = measure.getBoundingClientRect();
  const middle = frame.left + frame.width / 2;
  const own = rects.find((rect) => {
    const box = rect.getBoundingClientRect();
    return box.left <= middle && middle <= box.right && box.top <= frame.bottom && frame.top <= box.bottom;
  });
  if (own) pin(own.dataset.bar, note.dataset.id);
});

// A phrase out of the bank: its category is chosen with it, and the place that is pinned stands in it.
document.addEventListener("input", (event) => {
  if (!event.target.matches('[data-remark] [name="text"]')) return;
  const phrase = [...document.querySelectorAll("#phrases option")].find((option) => option.value === event.target.value);
  if (!phrase) return;
  fields("category").value = phrase.dataset.category;
  const tempo = document.getElementById("decision-tempo")?.value || document.querySelector("[data-asked]")?.dataset.asked;
  event.target.value = filled(phrase.value, { bar: fields("bar").value, note: nameOf(fields("note_id").value), tempo });
});

// The moment that is playing, in seconds of the recording: where no notes are written, remarks are pinned by time.
document.addEventListener("click", (event) => {
  if (!event.target.closest("[data-this-moment]")) return;
  const { delay } = JSON.parse(document.getElementById("player-data").textContent);
  const audio = document.querySelector("[data-take-sound]");
  fields("at_s").value = Math.max(0, audio.currentTime - delay).toFixed(1);
});

// What is proposed as the next step is taken over into the fields; nothing is sent by it.
function accept() {
  const proposal = document.querySelector("[data-proposal]");
  if (!proposal) return;
  const form = document.getElementById("answer");
  for (const [name, value] of Object.entries(JSON.parse(proposal.dataset.proposal))) {
    if (name === "decision") form.querySelector(`[name="decision"][value="${value}"]`).checked = true;
    else form.elements[name].value = value;
  }
  form.dispatchEvent(new Event("change", { bubbles: true }));
  form.dispatchEvent(new Event("input", { bubbles: true }));
}
document.querySelector("[data-accept]")?.addEventListener("click", accept);

// Rows about which nothing was said yet get what the figures say, where they can know.
function asHeard() {
  const checklist = document.getElementById("checklist");
  for (const row of checklist?.querySelectorAll('[role="group"]') ?? []) {
    const heard = row.querySelector("label.heard input");
    if (heard && !row.querySelector("input:checked")) heard.checked = true;
  }
  checklist?.dispatchEvent(new Event("change", { bubbles: true }));
}
document.querySelector("[data-as-heard]")?.addEventListener("click", asHeard);

// The place that sounds, or sounded last: its note where one is written, else its bar.
function pinHere() {
  const audio = document.querySelector("[data-take-sound]");
  if (!audio || !fields("bar") || fields("bar").value || audio.currentTime === 0) return;
  const { delay, notes, bars } = JSON.parse(document.getElementById("player-data").textContent);
  const time = audio.currentTime - delay;
  const bar = bars.findLast(([, , at]) => at <= time + 0.05);
  if (bar) pin(bar[0], noteAt(notes, time) ?? "");
}

// What was decided about marks on this page, the newest last, so that it can be taken back.
const decided = [];
document.addEventListener("click", ({ target }) => {
  const button = target.closest(".marks button[name=standing]");
  if (!button) return;
  const standing = ["proposed", "kept", "dropped"].find((one) => button.closest("li").classList.contains(one));
  decided.push({ url: button.form.action, standing, token: button.form.elements.csrfmiddlewaretoken.value });
});
function takeBack() {
  const last = decided.pop();
  if (last) window.htmx.ajax("POST", last.url, { target: "#marks", values: { standing: last.standing, csrfmiddlewaretoken: last.token } });
}

// Each by the key it comes with; which key that is now is chosen under “?”.
const acts = {
  k: () => document.querySelector('.marks li.proposed button[value="kept"]')?.click(),
  d: () => document.querySelector('.marks li.proposed button[value="dropped"]')?.click(),
  u: takeBack,
  1: () => document.querySelectorAll(".causes form button")[0]?.click(),
  2: () => document.querySelectorAll(".causes form button")[1]?.click(),
  a: accept,
  c: asHeard,
  s: () => answer?.requestSubmit(answer.querySelector('button[name="next"]')),
  r: () => {
    pinHere();
    fields("text")?.focus();
  },
  "?": () => document.querySelector("[data-keys] summary").click(),
};
document.addEventListener("keydown", (event) => {
  const act = typing(event) ? null : acts[actionOf(event.key)];
  if (!act) return;
  event.preventDefault();
  act();
});
