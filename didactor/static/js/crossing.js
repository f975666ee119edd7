// The page of a crossing: count-off, play, what it was, the next attempt, with nothing to be touched. The server judges and counts; this page
// records, draws and sounds.

import { Attempt, post, sendKept } from "./attempt.js";
import { Cursor } from "./cursor.js";
import { ELSEWHERE, alone } from "./keep.js";
import { click } from "./metronome.js";
import { Tap, microphone } from "./microphone.js";
import { cleanInWords, placeOn } from "./road.js";
import { Sounds } from "./sounds.js";
import { Stones, tally } from "./stones.js";
import { LATE } from "./upload.js";

// A breath before the count-off, and so much time to take in what it was before the next one.
const BEGINS_IN_S = 0.5;
const NEXT_AFTER_S = { clean: 1.4, trial: 1.4, unsure: 2.6, fault: 3.2 };
const POLL_MS = 1500;
const HELPER = "didactor helper";

const data = JSON.parse(document.getElementById("practice-data").textContent);
const stage = document.querySelector("[data-stage]");
const thumb = document.querySelector("[data-recorder]");
const part = (name) => thumb.querySelector(name);
const sheet = stage.querySelector("[data-sheet]");
const stones = new Stones(sheet);
const cursor = new Cursor(sheet, stage, data);
const sounds = new Sounds(data.sound);
let now = data.now;
let context = null;
let tap = null;
let free = () => {};
let attempt = null;
let waiting = null;
let lock = null;
let taken = 0;
let last = null;

const say = (text) => (part("[data-says]").textContent = text);
const fault = (text) => (part("[data-fault]").textContent = text);

function show(crossing) {
  if (crossing) now = crossing;
  stones.draw(now);
  say(now.remedy?.taken ? `${now.remedy.title}: ${now.remedy.tally} of ${now.remedy.times}.` : now.says);
  part("[data-tempo]").textContent = now.next ? `at ${now.next.tempo}` : "";
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
  part("[data-unheard]").textContent = waits ? `${waits} not yet heard.` : "";
  stage.querySelectorAll("rect.bar").forEach((rect) => rect.classList.toggle("aim", Boolean(now.next) && now.next.shown.includes(rect.dataset.bar)));
  const slow = new Map(Object.entries(now.clean));
  part("[data-clean]").textContent = slow.size ? `Clean so far: ${cleanInWords(slow, data.bars.map(([number]) => number))}.` : "";
  if (waits && !waiting) waiting = setTimeout(look, POLL_MS);
}

async function look() {
  waiting = null;
  const answer = await fetch(data.state).catch(() => null);
  if (answer?.ok && !attempt) show((await answer.json()).crossing);
}

const helping = () => part("[data-helper]").checked;

// The helper counts: nothing is recorded, the beat is counted off where it is wanted.
async function byHand(outcome) {
  if (!now.next) return;
  const { stone, remedy, tempo } = now.next;
  last = crypto.randomUUID();
  const fields = { id: last, stone, remedy: remedy ?? "", tempo: String(tempo), outcome };
  const answer = await post(data.byHand, fields).catch(() => null);
  if (!answer) return fault("There is no connection: this one was not counted.");
  const told = await answer.json();
  if (!answer.ok) return fault(told.says);
  part("[data-undo]").hidden = false;
  tell(told);
}

async function undo() {
  if (!last) return;
  const answer = await post(data.takeBack, { id: last, tempo: String(now.next?.tempo ?? 60) }).catch(() => null);
  if (!answer?.ok) return;
  last = null;
  part("[data-undo]").hidden = true;
  fault("Taken back.");
  show((await answer.json()).crossing);
}

async function open() {
  context ??= new AudioContext();
  await context.resume();
  if (tap) return;
  const leave = await alone();
  if (!leave) throw new Error(ELSEWHERE);
  free = leave;
  const stream = await microphone();
  stream.getTracks().forEach((track) => (track.onended = () => rest("The microphone was taken away.")));
  taken = 0;
  const own = new Tap(context, stream, (block) => {
    const at = own.startsAt + taken / context.sampleRate;
    taken += block.length;
    meter(block);
    if (attempt && at + block.length / context.sampleRate > attempt.from) attempt.add(block);
  });
  await own.open();
  tap = own;
}

async function go(trial = false) {
  if (attempt || !now.next || helping()) return;
  clearTimeout(waiting);
  waiting = null;
  try {
    await open();
  } catch (error) {
    free();
    return fault(error.message);
  }
  lock ??= await navigator.wakeLock?.request("screen").catch(() => null);
  begin(now.next, trial);
}

function begin({ stone, remedy, tempo, road, length, beat, pickup }, trial) {
  fault("");
  part("[data-remedy]").hidden = true;
  const quarterS = 60 / (tempo * data.unit);
  const beatS = beat * quarterS;
  const first = context.currentTime + BEGINS_IN_S;
  const starts = first + data.countOff * beatS - pickup * quarterS;
  // Blocks are whole: what is kept begins with the one that is being filled now.
  const from = tap.startsAt + taken / context.sampleRate;
  const late = (context.outputLatency || 0) + Number(localStorage.getItem(LATE) || 0);
  const facts = { id: crypto.randomUUID(), stone, remedy, tempo, rate: context.sampleRate, start: Math.max(0, starts - from + late), trial };
  attempt = new Attempt(facts, { ...data, endS: facts.start + length * quarterS, title: document.title });
  attempt.from = from;
  for (let k = 0; k < data.countOff; k += 1) click(context, first + k * beatS, k ? 0.99 : 1);
  thumb.toggleAttribute("data-recording", true);
  document.dispatchEvent(new CustomEvent("recording", { detail: { stone, tempo, remedy, inS: starts - context.currentTime } }));
  part("[data-trial-now]").hidden = !trial;
  const mine = attempt;
  const step = () => {
    if (attempt !== mine) return;
    const time = context.currentTime - (context.outputLatency || 0);
    const counted = Math.floor((time - first) / beatS) + 1;
    part("[data-beats]").textContent = counted >= 1 && counted <= data.countOff && time < starts ? counted : "";
    const place = placeOn(road, Math.max(0, (time - starts) / quarterS));
    if (place !== null && (time - starts) / quarterS < length) cursor.show(place);
    else cursor.hide();
    requestAnimationFrame(step);
  };
  step();
  attempt.result.then((told) => attempt === mine && over(told));
}

function over(told) {
  attempt = null;
  cursor.hide();
  thumb.toggleAttribute("data-recording", false);
  part("[data-beats]").textContent = "";
  if (told.refused) return rest(told.refused);
  if (told.lost) return rest("There is no connection, and this device keeps nothing: this attempt is lost. Go on when there is one.");
  if (told.kept) {
    fault("There is no connection. This attempt is kept on the device and heard later.");
    return next("unsure");
  }
  tell(told);
  next(told.attempt.outcome === "unheard" ? "unsure" : told.attempt.outcome, told.attempt.code === "nothing");
}

function tell({ attempt: was, crossing }) {
  const words = { clean: `Without a fault. ${was.says}`.trim(), fault: was.says || "Not yet.", unsure: was.says, unheard: "It is being heard; it counts in a moment.", trial: was.was === "clean" ? "A trial run, without a fault." : `A trial run. ${was.says}` };
  show(crossing);
  fault(words[was.outcome]);
  thumb.dataset.outcome = was.outcome;
  const place = part("[data-place]");
  place.hidden = was.place === null;
  place.dataset.from = was.place ?? "";
  place.dataset.to = was.until ?? "";
  place.dataset.of = was.id;
  mark(was);
  chime(was.was);
  if (crossing?.carries) celebrate();
}

// The bar in which it went wrong is shown on the score until the next attempt.
function mark({ outcome, bar }) {
  stage.querySelectorAll("rect.bar").forEach((rect) => rect.classList.toggle("missed-here", outcome === "fault" && rect.dataset.bar === bar));
}

// A small sound: two soft notes up, one low one, or one in between.
function chime(outcome) {
  if (!context) return;
  const notes = { clean: [660, 880], fault: [196], unsure: [392] }[outcome] ?? [392];
  notes.forEach((hz, k) => {
    const tone = context.createOscillator();
    const gain = context.createGain();
    const at = context.currentTime + 0.03 + 0.14 * k;
    tone.type = "sine";
    tone.frequency.value = hz;
    gain.gain.setValueAtTime(0, at);
    gain.gain.linearRampToValueAtTime(0.16, at + 0.02);
    gain.gain.exponentialRampToValueAtTime(0.001, at + 0.35);
    tone.connect(gain).connect(context.destination);
    tone.start(at);
    tone.stop(at + 0.4);
  });
}

// Nobody has to touch anything: the next one begins by itself, unless something is to be decided first.
function next(outcome, nothing = false) {
  if (nothing || !part("[data-on]").checked || !now.next || (now.remedy && !now.remedy.taken)) return rest();
  part("[data-pause]").hidden = false;
  part("[data-go]").hidden = true;
  waiting = setTimeout(() => {
    waiting = null;
    begin(now.next, false);
  }, 1000 * (NEXT_AFTER_S[outcome] ?? 2));
}

async function rest(words = "") {
  clearTimeout(waiting);
  waiting = null;
  const broken = attempt;
  attempt = null;
  if (broken) broken.over = true;
  cursor.hide();
  thumb.toggleAttribute("data-recording", false);
  part("[data-beats]").textContent = "";
  part("[data-pause]").hidden = true;
  part("[data-go]").hidden = false;
  if (words) fault(words);
  const ending = tap;
  tap = null;
  free();
  lock?.release();
  lock = null;
  await ending?.finish();
}

function celebrate() {
  stage.classList.remove("carried");
  // Begun anew each time.
  void stage.offsetWidth;
  stage.classList.add("carried");
}

function meter(block) {
  let peak = 0;
  for (const sample of block) peak = Math.max(peak, Math.abs(sample));
  part("[data-level]").setAttribute("width", Math.max(0, 100 + (20 * Math.log10(Math.max(peak, 1e-4)) / 60) * 100).toFixed(1));
}

// How it goes: the model at its tempo, only what is played.
async function hear({ tempo, road, length }) {
  if (attempt) return;
  await rest();
  context ??= new AudioContext();
  await context.resume();
  try {
    const sound = await sounds.at(context, tempo);
    const quarterS = 60 / (tempo * data.unit);
    let at = context.currentTime + 0.1;
    for (const [begun, place, long] of road) {
      const source = context.createBufferSource();
      source.buffer = sound.buffer;
      source.connect(context.destination);
      source.start(at, sound.leadS + place * quarterS, Math.min(long, length - begun) * quarterS + 0.05);
      at += long * quarterS;
    }
  } catch (error) {
    fault(error.message);
  }
}

// The place at which it went wrong, out of the attempt itself.
function hearPlace() {
  const { from, to, of } = part("[data-place]").dataset;
  const audio = part("[data-again]");
  audio.src = `${data.piece.replace("00000000-0000-0000-0000-000000000000", of)}sound/#t=${Math.max(0, Number(from) - 0.6)},${Number(to) + 0.4}`;
  audio.play().catch(() => fault("It can be heard in a moment; try again."));
}

async function remedy(answer) {
  const found = await post(data.remedy, { remedy: String(now.remedy.id), answer }).catch(() => null);
  if (!found?.ok) return fault("There is no connection.");
  fault("");
  show((await found.json()).crossing);
  if (answer === "take") go();
}

function showHelper() {
  const on = helping();
  thumb.toggleAttribute("data-by-hand", on);
  localStorage.setItem(HELPER, on ? "1" : "");
  if (on) rest();
}

part("[data-go]").addEventListener("click", () => go());
part("[data-trial]").addEventListener("click", () => go(true));
part("[data-pause]").addEventListener("click", () => rest());
part("[data-stop]").addEventListener("click", () => rest("Stopped: this one does not count."));
part("[data-hear]").addEventListener("click", () => now.next && hear(now.next));
part("[data-remedy-hear]").addEventListener("click", () => hear(now.remedy.plays));
part("[data-place]").addEventListener("click", hearPlace);
part("[data-remedy-take]").addEventListener("click", () => remedy("take"));
part("[data-remedy-done]").addEventListener("click", () => remedy("done"));
part("[data-remedy-aside]").addEventListener("click", () => remedy("aside"));
part("[data-helper]").addEventListener("change", showHelper);
part("[data-good]").addEventListener("click", () => byHand("clean"));
part("[data-not-yet]").addEventListener("click", () => byHand("fault"));
part("[data-undo]").addEventListener("click", undo);
// Pedals are keyboards that know a few keys.
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input, select, textarea, summary")) return;
  if (event.target.closest("button, a") && [" ", "Enter"].includes(event.key)) return;
  const sitting = attempt || waiting;
  const acts = helping() ? { PageDown: () => byHand("clean"), " ": () => byHand("clean"), PageUp: () => byHand("fault"), n: () => byHand("fault") } : { " ": () => (sitting ? rest() : go()), PageDown: () => (sitting ? rest() : go()), PageUp: () => go(true), t: () => go(true) };
  if (!(event.key in acts)) return;
  event.preventDefault();
  acts[event.key]();
});
window.addEventListener("online", () => sendKept(data).then((told) => told && !attempt && show(told.crossing)));
window.addEventListener("pagehide", () => tap?.stream.getTracks().forEach((track) => track.stop()));
part("[data-helper]").checked = localStorage.getItem(HELPER) === "1";
showHelper();
show();
sendKept(data).then((told) => told?.crossing && show(told.crossing));
