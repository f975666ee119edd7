// Records a take: count-off, level, stop, listen, keep.

import { ELSEWHERE, Keeping, alone, canKeep } from "./keep.js";
import { Metronome } from "./metronome.js";
import { Tap, microphone } from "./microphone.js";
import { clock, heardAt, inTake } from "./timeline.js";
import { send } from "./upload.js";
import { wavFrom } from "./wav.js";
import { worded } from "./words.js";

const box = document.querySelector("[data-recorder]");
const data = JSON.parse(document.getElementById("recorder-data")?.textContent ?? "null");
// Playing may begin on the last count: recording starts with the count-off, so that nothing of the beginning is lost.
const PRE_ROLL_S = 0.6;
const LONGEST_S = 20 * 60;
// Rendered sounds begin with this much silence.
const TRACK_LEAD_S = 0.3;

const part = (name) => box.querySelector(name);
const say = (text) => (part("[data-says]").textContent = text);
let running = null;
let blob = null;
// Names the take that lies in this page: an upload goes on only with its own recording.
let takeKey = "";
let clicked = [];
// Which accompaniment was played, and when it began in the take.
let played = "";
// The copy on the device, where there is one; and what is said when there is no room for it, for as long as one records.
let keeping = null;
let warning = "";
// Whether all of the take is on the device, and whether sending it has failed.
let safe = false;
let unsent = false;
// Gives other pages leave to record again.
let free = () => {};
// The tempo that the student chose; empty where it is fixed.
let ownTempo = "";
// The take lives in this page until it is sent: leaving asks first.
const leaving = (event) => event.preventDefault();
const guard = (on) => (on ? window.addEventListener("beforeunload", leaving) : window.removeEventListener("beforeunload", leaving));

// From now on takes are counted off at this tempo; `own`: it is the student's choice. The accompaniment goes with it.
export function recordWith({ tempo, own = false, backing = data.backing }) {
  Object.assign(data, { tempo, backing });
  ownTempo = own ? String(tempo) : "";
}

// The accompaniment as a sound ready to start, or nothing where none is wanted.
async function accompaniment(context) {
  if (!part("[data-backing]")?.checked) return null;
  if (typeof data.backing === "function") data.backing = await data.backing();
  const answer = await fetch(data.backing.url);
  if (!answer.ok) throw new Error(worded("the accompaniment did not arrive"));
  const source = context.createBufferSource();
  source.buffer = await context.decodeAudioData(await answer.arrayBuffer());
  source.connect(context.destination);
  return source;
}

async function record() {
  part("[data-act=record]").disabled = true;
  let stream;
  try {
    const leave = await alone();
    if (!leave) throw new Error(ELSEWHERE);
    free = leave;
    stream = await microphone();
  } catch (error) {
    free();
    say(error.message);
    part("[data-act=record]").disabled = false;
    return;
  }
  const context = new AudioContext();
  try {
    await begin(context, stream);
  } catch (error) {
    // Nothing may go on listening when the recording could not begin.
    free();
    stream.getTracks().forEach((track) => track.stop());
    await keeping?.drop();
    keeping = null;
    await context.close().catch(() => {});
    guard(Boolean(blob));
    part("[data-beats]").textContent = "";
    part("[data-act=record]").hidden = false;
    part("[data-act=record]").disabled = false;
    part("[data-act=stop]").hidden = true;
    say(worded("The recording could not begin: {reason}. Press Record again, or send a recording below.", { reason: error.message || worded("the browser gave no reason") }));
  }
}

async function begin(context, stream) {
  await context.resume();
  const blocks = [];
  const times = [];
  takeKey = crypto.randomUUID();
  warning = "";
  // From the very first block on: the times of the clicks are counted from there.
  keeping = canKeep() ? new Keeping(facts(context.sampleRate), noRoom) : null;
  const tap = new Tap(context, stream, (block) => {
    blocks.push(block);
    keeping?.add(block);
    meter(block);
  });
  await tap.open();
  const metronome = new Metronome(context);
  const track = await accompaniment(context);
  const begins = context.currentTime + PRE_ROLL_S;
  const goesOn = part("[data-metronome]").checked;
  const beats = part("[data-beats]");
  track?.start(begins);
  // The accompaniment counts off by itself.
  if (!track || goesOn) metronome.start({
    beatsPerMinute: data.tempo,
    at: begins + (track ? TRACK_LEAD_S : 0),
    count: goesOn ? null : data.countOff,
    onBeat: (number, time) => {
      // Headphones without a wire play up to a third of a second late; the browser knows.
      times.push(time + (context.outputLatency || 0));
      setTimeout(() => (beats.textContent = number < data.countOff ? String(number + 1) : ""), Math.max(0, (time - context.currentTime) * 1000));
    },
  });
  const first = begins + (track ? data.backing.leadS : (data.countOff * 60) / data.tempo);
  setTimeout(() => (beats.textContent = ""), (first - context.currentTime) * 1000);
  say(track ? worded("The accompaniment plays: count the bars, then enter.") : worded("Counting off …"));
  part("[data-act=record]").hidden = true;
  part("[data-act=stop]").hidden = false;
  let second = -1;
  const ticking = setInterval(() => {
    const playing = context.currentTime - first;
    if (playing >= 0) say(warning || (data.keepGoing ? worded("Recording. Keep going, whatever happens.") : worded("Recording. Stop and think wherever you need to.")));
    part("[data-clock]").textContent = clock(Math.max(0, playing));
    if (Math.floor(playing) > second) {
      second = Math.floor(playing);
      keeping?.note({ clicks: inTake(times, tap.startsAt), backing: heardAs(track ? begins : null, context, tap) });
    }
    if (playing > LONGEST_S) stop();
  }, 200);
  // From the count-off on, leaving or reloading asks first.
  guard(true);
  stream.getTracks().forEach((track) => {
    track.onended = () => running && stop(worded("The microphone was taken away. What was recorded until then is here."));
    // A telephone call takes it for a while: the recording goes on, and nothing is heard in it.
    track.onmute = () => (warning = worded("The microphone is silent: another program, perhaps a call, has taken it."));
    track.onunmute = () => (warning = "");
  });
  box.toggleAttribute("data-recording", true);
  document.dispatchEvent(new Event("recording"));
  running = { context, tap, metronome, ticking, blocks, times, loudest: 0, begins: track ? begins : null };
}

// What has to be known to send a take later, from whichever page.
function facts(rate) {
  const { task, title, person } = data;
  const step = document.querySelector("[data-step]")?.value ?? "";
  return { id: takeKey, task, title, person, rate, step, tempo: ownTempo, clicks: [], backing: "" };
}

function heardAs(begins, context, tap) {
  const heard = heardAt(begins, context.outputLatency || 0, tap.startsAt);
  return heard === null ? "" : `${data.backing.sound} ${heard.toFixed(3)}`;
}

function noRoom() {
  warning = worded("This device has no room for a copy of the recording: it is in this page alone. Go on, then keep it before you leave.");
  say(warning);
}

function meter(block) {
  let peak = 0;
  for (const sample of block) peak = Math.max(peak, Math.abs(sample));
  if (running) running.loudest = Math.max(running.loudest, peak);
  const level = part("[data-level]");
  const decibels = 20 * Math.log10(Math.max(peak, 1e-4));
  level.setAttribute("width", Math.max(0, 100 + (decibels / 60) * 100).toFixed(1));
  level.classList.toggle("hot", peak > 0.98);
}

async function stop(trouble = "") {
  if (!running) return;
  const { context, tap, metronome, ticking, blocks, times, loudest, begins } = running;
  metronome.stop();
  clearInterval(ticking);
  box.toggleAttribute("data-recording", false);
  free();
  await tap.finish();
  const rate = context.sampleRate;
  played = heardAs(begins, context, tap);
  await context.close();
  running = null;
  blob = wavFrom(blocks, rate);
  clicked = inTake(times, tap.startsAt);
  safe = (await keeping?.finish({ clicks: clicked, backing: played })) ?? false;
  guard(true);
  const address = URL.createObjectURL(blob);
  part("[data-listen]").src = address;
  part("[data-save]").href = address;
  part("[data-check]").hidden = false;
  part("[data-act=stop]").hidden = true;
  part("[data-beats]").textContent = "";
  say(trouble ? trouble : loudest < 0.003 ? worded("There is hardly any sound in this take. Is it the right microphone? Listen before you keep it.") : safe ? worded("Hear a few seconds: loud enough, clean, whole? Then keep it.") : worded("Hear a few seconds: loud enough, clean, whole? Then keep it. Until then it is in this page alone."));
}

async function again() {
  blob = null;
  await keeping?.drop();
  guard(false);
  part("[data-check]").hidden = true;
  const button = part("[data-act=record]");
  button.hidden = false;
  button.disabled = false;
  part("[data-clock]").textContent = "0:00";
  record();
}

async function deliver() {
  const progress = part("[data-progress]");
  progress.hidden = false;
  const bar = progress.querySelector("progress");
  const words = progress.querySelector("span");
  guard(true);
  unsent = false;
  keeping?.note({ wanted: true });
  try {
    const take = await send(blob, {
      url: data.uploads,
      task: data.task,
      key: `take ${data.task} ${takeKey}`,
      name: "take.wav",
      step: document.querySelector("[data-step]")?.value ?? "",
      tempo: ownTempo,
      clicks: clicked,
      backing: played,
      onProgress: (share) => {
        bar.value = share;
        words.textContent = worded("Sent: {percent} %", { percent: Math.round(share * 100) });
      },
    });
    guard(false);
    await keeping?.drop();
    window.location.href = data.takePage.replace("/0/", `/${take}/`);
  } catch (error) {
    progress.hidden = true;
    unsent = true;
    // With a copy on the device nothing is lost by leaving: it is sent when there is a connection.
    guard(Boolean(blob) && !safe);
    say(safe && !navigator.onLine ? worded("There is no connection. The take is safe on this device and is sent as soon as there is one: you can go on.") : error.message);
  }
}

// What could not be sent for want of a connection is sent when there is one.
window.addEventListener("online", () => blob && unsent && deliver());

if (box) {
  const acts = { record, stop: () => stop(), again, send: deliver };
  box.addEventListener("click", (event) => acts[event.target.closest("[data-act]")?.dataset.act]?.());
}
