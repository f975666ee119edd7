// The page of a crossing: count-off, play, what it was, the next attempt, with nothing to be touched. The server judges and counts; this page
// records, draws and sounds.

import { told } from "./answered.js";
import { post, sendKept } from "./attempt.js";
import { Cursor } from "./cursor.js";
import { pedals } from "./pedals.js";
import { cleanInWords } from "./road.js";
import { Sitting } from "./sitting.js";
import { Stones, tally } from "./stones.js";
import { worded } from "./words.js";

const POLL_MS = 1500;
const HELPER = "didactor helper";

const data = JSON.parse(document.getElementById("practice-data").textContent);
const stage = document.querySelector("[data-stage]");
const thumb = document.querySelector("[data-recorder]");
const part = (name) => thumb.querySelector(name);
const sheet = stage.querySelector("[data-sheet]");
const stones = new Stones(sheet);
const page = { plays: () => (helping() ? null : now.next), told: took, goesOn: () => !now.remedy || now.remedy.taken, ready: () => ["[data-remedy]", "[data-why]"].forEach((name) => (part(name).hidden = true)) };
const sitting = new Sitting({ stage, thumb, data, cursor: new Cursor(sheet, stage, data), page });
let now = data.now;
let looking = null;
let last = null;

const say = (text) => (part("[data-says]").textContent = text);
const fault = (text) => sitting.fault(text);

function show(crossing) {
  if (crossing) now = crossing;
  stones.draw(now);
  say(now.remedy?.taken ? worded("{title}: {tally} of {times}.", now.remedy) : now.says);
  part("[data-tempo]").textContent = now.next ? worded("at {tempo}", { tempo: now.next.tempo }) : "";
  const strokes = part("[data-strokes]");
  const at = now.stones.find((stone) => stone.name === now.at);
  strokes.replaceChildren(...(now.remedy?.taken ? [tally({ tally: now.remedy.tally, need: now.remedy.times })] : at ? [tally(at)] : []));
  const open = now.remedy && !now.remedy.taken;
  part("[data-remedy]").hidden = !(open || now.remedy?.silent);
  if (now.remedy) {
    part("[data-remedy-title]").textContent = now.remedy.title;
    part("[data-remedy-says]").textContent = now.remedy.says;
    part("[data-remedy-take]").hidden = now.remedy.silent || now.remedy.taken;
    part("[data-remedy-done]").hidden = !now.remedy.silent;
  }
  part("[data-carries]").hidden = !now.carries;
  const waits = now.stones.reduce((sum, stone) => sum + stone.unheard, 0);
  part("[data-unheard]").textContent = waits ? worded("{count} not yet heard.", { count: waits }) : "";
  stage.querySelectorAll("rect.bar").forEach((rect) => rect.classList.toggle("aim", Boolean(now.next) && now.next.shown.includes(rect.dataset.bar)));
  const slow = new Map(Object.entries(now.clean));
  part("[data-clean]").textContent = slow.size ? worded("Clean so far: {bars}.", { bars: cleanInWords(slow, data.bars.map(([number]) => number)) }) : "";
  if (waits && !looking) looking = setTimeout(look, POLL_MS);
}

function took({ attempt, crossing }) {
  show(crossing);
  part("[data-why]").textContent = attempt.cause;
  part("[data-why]").hidden = !attempt.cause;
  if (!crossing?.carries) return;
  stage.classList.remove("carried");
  // Begun anew each time.
  void stage.offsetWidth;
  stage.classList.add("carried");
}

async function look() {
  looking = null;
  const answer = await fetch(data.state).catch(() => null);
  if (answer?.ok && !sitting.attempt) show((await answer.json()).crossing);
}

function helping() {
  return part("[data-helper]").checked;
}

// The helper counts: nothing is recorded, the beat is counted off where it is wanted.
async function byHand(outcome) {
  if (!now.next) return;
  const { stone, remedy, tempo } = now.next;
  last = crypto.randomUUID();
  const fields = { id: last, stone, remedy: remedy ?? "", tempo: String(tempo), outcome };
  const answer = await post(data.byHand, fields).catch(() => null);
  if (!answer) return fault(worded("There is no connection: this one was not counted."));
  const found = await told(answer);
  if (!answer.ok) return fault(found.says);
  part("[data-undo]").hidden = false;
  sitting.tell(found);
}

async function undo() {
  if (!last) return;
  const answer = await post(data.takeBack, { id: last, tempo: String(now.next?.tempo ?? 60) }).catch(() => null);
  if (!answer) return fault(worded("There is no connection."));
  if (!answer.ok) return fault((await told(answer)).says);
  last = null;
  part("[data-undo]").hidden = true;
  fault(worded("Taken back."));
  show((await answer.json()).crossing);
}

async function remedy(answer) {
  const found = await post(data.remedy, { remedy: String(now.remedy.id), answer }).catch(() => null);
  if (!found) return fault(worded("There is no connection."));
  if (!found.ok) return fault((await told(found)).says);
  fault("");
  show((await found.json()).crossing);
  if (answer === "take") sitting.go();
}

function showHelper() {
  const on = helping();
  thumb.toggleAttribute("data-by-hand", on);
  localStorage.setItem(HELPER, on ? "1" : "");
  if (on) sitting.rest();
}

part("[data-hear]").addEventListener("click", () => now.next && sitting.hear(now.next));
part("[data-remedy-hear]").addEventListener("click", () => sitting.hear(now.remedy.plays));
part("[data-remedy-take]").addEventListener("click", () => remedy("take"));
part("[data-remedy-done]").addEventListener("click", () => remedy("done"));
part("[data-remedy-aside]").addEventListener("click", () => remedy("aside"));
part("[data-helper]").addEventListener("change", showHelper);
part("[data-good]").addEventListener("click", () => byHand("clean"));
part("[data-not-yet]").addEventListener("click", () => byHand("fault"));
part("[data-undo]").addEventListener("click", undo);
pedals(() => {
  if (helping()) return { PageDown: () => byHand("clean"), " ": () => byHand("clean"), PageUp: () => byHand("fault"), n: () => byHand("fault") };
  const onAndOff = () => (sitting.sits ? sitting.rest() : sitting.go());
  return { " ": onAndOff, PageDown: onAndOff, PageUp: () => sitting.go(true), t: () => sitting.go(true) };
});
window.addEventListener("online", () => sendKept(data).then((told) => told && !sitting.attempt && show(told.crossing)));
part("[data-helper]").checked = localStorage.getItem(HELPER) === "1";
showHelper();
show();
sendKept(data).then((told) => told?.crossing && show(told.crossing));
