// The page on which one plays: hear the passage, play along, loop bars, choose a tempo. What is recorded is the recorder's matter.

import { Cursor } from "./cursor.js";
import { recordWith } from "./recorder.js";
import { Lines } from "./lines.js";
import { Sounds } from "./sounds.js";
import { Film } from "./film.js";
import { keepAlso } from "./offline.js";
import { along, even } from "./timing.js";
import { Transport, clicksIn } from "./transport.js";
import { worded } from "./words.js";

const stage = document.querySelector("[data-stage]");
const data = JSON.parse(document.getElementById("playing-data").textContent);
const thumb = document.querySelector(".thumb");
const part = (name) => thumb.querySelector(name);
const say = (text) => (part("[data-says]").textContent = text);
const notes = new Cursor(stage.querySelector("[data-sheet]"), stage, data);
const song = document.querySelector("[data-song]");
const lines = song ? new Lines(song, stage) : null;
let cursor = notes;
const sounds = new Sounds(data.sounds, ({ url }) => keepAlso([url]));
const film = new Film(document.querySelector("[data-film]"));
const length = Math.max(...data.bars.map(([, , start, long]) => start + long));
let tempo = data.tempo;
let context = null;
let transport = null;
let lock = null;

// What is asked of a take: the student's choice where that is free, else the tempo that was set.
function showTempo() {
  part("[data-tempo]").textContent = tempo;
  part("[data-slower]").disabled = tempo === data.tempi[0];
  part("[data-faster]").disabled = tempo === data.tempi.at(-1);
  const record = part("[data-act=record]");
  const chosen = data.free || tempo === data.fast;
  const asked = chosen ? tempo : data.asked;
  if (record) record.textContent = worded("Record at {tempo}", { tempo: asked });
  recordWith({ tempo: asked, own: chosen, ...(chosen && data.accompaniment ? { backing: () => sounds.find(asked, { accompaniment: 1 }) } : {}) });
}

const quarterS = () => 60 / (tempo * data.unit);
const chosen = () => {
  const first = data.bars.find(([number]) => number === part("[data-from]").value) ?? data.bars[0];
  const last = data.bars.findLast(([number]) => number === part("[data-to]").value) ?? data.bars.at(-1);
  return first[2] < last[2] + last[3] ? { from: first[2], to: last[2] + last[3], beat: first[4] } : { from: 0, to: length, beat: data.bars[0][4] };
};

function showChosen() {
  const { from, to } = chosen();
  const whole = from === 0 && to === length;
  const inside = new Set(whole ? [] : data.bars.filter(([, , start]) => start >= from && start < to).map(([number]) => number));
  stage.querySelectorAll("rect.bar").forEach((rect) => rect.classList.toggle("looped", inside.has(rect.dataset.bar)));
}

// The helps that are on, in the order in which they are taken away.
const HELPS = ["names", "melody", "accompaniment", "beat"];
const help = (name) => part(`[data-help=${name}]`);
const helps = (name) => Boolean(help(name)?.checked && !help(name).disabled);
const teacher = () => data.references.find((reference) => String(reference.id) === part("[data-by]")?.value) ?? null;

// With the teacher's own playing, whose time bends, nothing that is rendered evenly can sound.
function showHelps() {
  const bent = teacher() !== null && help("melody").checked;
  for (const name of ["names", "accompaniment"]) if (help(name)) help(name).disabled = bent;
  part("[data-less]").hidden = !HELPS.some(helps);
  film.show(bent ? teacher() : null);
}

function oneHelpLess() {
  const first = HELPS.find(helps);
  if (first) help(first).checked = false;
  showHelps();
  if (transport?.running) {
    settle();
    play();
  }
}

function wanted() {
  const by = teacher();
  if (by && helps("melody")) return [{ reference: by.id }];
  const found = [];
  if (helps("melody")) found.push({});
  if (helps("accompaniment")) found.push({ accompaniment: 1 });
  if (helps("names")) found.push({ names: 1 });
  return found;
}

async function play() {
  context ??= new AudioContext();
  await context.resume();
  transport ??= new Transport(context);
  const asked = wanted();
  let found = [];
  if (asked.length) {
    part("[data-go]").disabled = true;
    say(worded("Getting the sound ready …"));
    try {
      found = await Promise.all(asked.map((what) => sounds.at(context, tempo, what)));
      say("");
    } catch (error) {
      say(error.message);
    }
    part("[data-go]").disabled = false;
    if (found.length < asked.length) return;
  }
  const { from, to, beat } = chosen();
  const parts = Number(part("[data-parts]").value);
  const bent = found.find((sound) => sound.anchors);
  await keepAwake();
  transport.start({
    sounds: found.map((sound, index) => ({ ...sound, counts: Boolean(asked[index].accompaniment) })),
    timing: bent ? along(bent.anchors) : even(quarterS()),
    from,
    to,
    again: part("[data-round]").checked,
    count: data.countOff,
    beat,
    overlap: from === 0 ? data.pickup : 0,
    clicks: helps("beat") ? clicksIn(data.bars, from, to, parts) : [],
    volume: Number(part("[data-volume]").value),
    onEnd: settle,
  });
  showState(true);
  requestAnimationFrame(step);
}

function step() {
  if (!transport?.running) return;
  const { quarters, counted, begun } = transport.position();
  part("[data-beats]").textContent = counted || "";
  cursor.show(quarters);
  film.follow(begun ? quarters : null);
  requestAnimationFrame(step);
}

function settle() {
  transport?.stop();
  cursor.hide();
  film.pause();
  part("[data-beats]").textContent = "";
  lock?.release();
  lock = null;
  showState(false);
}

function showState(running) {
  thumb.toggleAttribute("data-playing", running);
  part("[data-icon]").setAttribute("d", running ? "M3 2.5 H13 V13.5 H3 Z" : "M3 1.5 L14 8 L3 14.5 Z");
  part("[data-word]").textContent = running ? worded("Stop") : worded("Play");
}

// The screen stays on while one plays; where the browser cannot, nothing is lost by it.
async function keepAwake() {
  lock = await navigator.wakeLock?.request("screen").catch(() => null);
}

const go = () => (transport?.running ? settle() : play());
const move = (steps) => {
  const index = data.tempi.indexOf(tempo) + steps;
  tempo = data.tempi[Math.min(data.tempi.length - 1, Math.max(0, index))];
  showTempo();
  if (transport?.running) {
    settle();
    play();
  }
};
const turn = (pages) => stage.scrollBy({ top: pages * stage.clientHeight * 0.8, behavior: "smooth" });

part("[data-go]").addEventListener("click", go);
part("[data-slower]").addEventListener("click", () => move(-1));
part("[data-faster]").addEventListener("click", () => move(1));
part("[data-more]").addEventListener("change", () => {
  showChosen();
  showHelps();
  if (transport?.running) settle();
});
part("[data-as-song]")?.addEventListener("change", (event) => {
  song.hidden = !event.target.checked;
  stage.querySelector("[data-sheet]").hidden = event.target.checked;
  cursor = event.target.checked ? lines : notes;
});
part("[data-less]").addEventListener("click", oneHelpLess);
// Pedals are keyboards that know a few keys: space, page up and page down.
document.addEventListener("keydown", (event) => {
  if (event.target.closest("input, select, textarea, button, a, summary, audio") && event.key === " ") return;
  if (event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input, select, textarea")) return;
  const acts = { " ": go, PageDown: () => turn(1), PageUp: () => turn(-1), "-": () => move(-1), "+": () => move(1) };
  if (!(event.key in acts)) return;
  event.preventDefault();
  acts[event.key]();
});
// Dragging over bars chooses them; a touch on a chosen one takes all again.
let begun = null;
stage.addEventListener("pointerdown", (event) => (begun = event.target.closest("rect.bar")?.dataset.bar ?? null));
stage.addEventListener("pointerup", (event) => {
  const ended = event.target.closest("rect.bar")?.dataset.bar ?? null;
  if (begun === null || ended === null || begun === ended) return void (begun = null);
  const numbers = data.bars.map(([number]) => number);
  const [first, last] = numbers.indexOf(begun) <= numbers.indexOf(ended) ? [begun, ended] : [ended, begun];
  part("[data-from]").value = first;
  part("[data-to]").value = last;
  part("[data-round]").checked = true;
  showChosen();
  begun = null;
});
document.addEventListener("recording", () => {
  settle();
  keepAwake();
});
part("[data-aloud]")?.addEventListener("click", () => part("[data-aloud-sound]").play());
document.addEventListener("visibilitychange", () => document.visibilityState === "visible" && transport?.running && keepAwake());
showTempo();
showChosen();
showHelps();
// For when there is no connection: what one would hear and record with first is fetched now, quietly.
if (data.model) sounds.find(tempo).catch(() => {});
if (data.accompaniment) sounds.find(tempo, { accompaniment: 1 }).catch(() => {});
