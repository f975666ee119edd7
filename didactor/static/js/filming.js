// Films a take where a picture is asked for: what must be in view beside the live picture, stills of the take before it is sent.

import { ELSEWHERE, Keeping, alone, canKeep } from "./keep.js";
import { Metronome } from "./metronome.js";
import { chosenInput } from "./microphone.js";
import { clock, inTake } from "./timeline.js";
import { send } from "./upload.js";
import { worded } from "./words.js";

const KINDS = ["video/webm;codecs=vp8,opus", "video/webm", "video/mp4"];
const SLICE_MS = 1000;
const PRE_ROLL_S = 0.8;
const STILLS = [0.1, 0.5, 0.9];
// A minute of film takes about so much room; with less left it is said.
const MINUTE_BYTES = 20e6;
const TIGHT_MINUTES = 10;

const data = JSON.parse(document.getElementById("recorder-data")?.textContent ?? "null");
const box = document.querySelector("[data-filming]");
const part = (name) => box.querySelector(name);
const say = (text) => (part("[data-film-says]").textContent = text);
const leaving = (event) => event.preventDefault();
let stream = null;
let running = null;
let made = null;

// How many minutes of film the device has room for, roughly; null where the browser does not tell.
export function minutesLeft({ quota, usage } = {}) {
  return quota > 0 ? Math.max(0, Math.floor((quota - usage) / MINUTE_BYTES)) : null;
}

async function open() {
  box.hidden = false;
  document.querySelector("[data-says]").textContent = "";
  const wanted = chosenInput();
  const audio = { echoCancellation: false, noiseSuppression: false, autoGainControl: false, ...(wanted ? { deviceId: { ideal: wanted } } : {}) };
  try {
    stream = await navigator.mediaDevices.getUserMedia({ audio, video: { width: { ideal: 1280 }, height: { ideal: 720 }, frameRate: { ideal: 30 } } });
  } catch (error) {
    return say(error.name === "NotAllowedError" ? worded("Camera and microphone are not allowed. Allow them in the browser’s address bar, then try again.") : worded("No camera was found. Film with another program and send the file from the task’s page."));
  }
  part("[data-live]").srcObject = stream;
  part("[data-live]").play();
  const left = minutesLeft(await navigator.storage?.estimate?.());
  say(left !== null && left < TIGHT_MINUTES ? worded("Look at the picture first. There is room for about {minutes} minutes on this device.", { minutes: left }) : worded("Look at the picture first: is everything in it?"));
}

async function film() {
  const mime = KINDS.find((kind) => MediaRecorder.isTypeSupported(kind));
  if (!stream || !mime) return say(worded("This browser cannot film. Film with another program and send the file from the task’s page."));
  const free = await alone();
  if (!free) return say(ELSEWHERE);
  const context = new AudioContext();
  await context.resume();
  const id = crypto.randomUUID();
  const slices = [];
  const step = document.querySelector("[data-step]")?.value ?? "";
  const facts = { id, task: data.task, title: data.title, person: data.person, mime, step, tempo: "", clicks: [], backing: "" };
  const keeping = canKeep() ? new Keeping(facts, () => say(worded("This device has no room for a copy: the film is in this page alone. Keep it before you leave."))) : null;
  const recorder = new MediaRecorder(stream, { mimeType: mime, ...(mime.includes("mp4") ? { videoKeyFrameIntervalDuration: 1000 } : {}) });
  recorder.ondataavailable = async ({ data: slice }) => {
    if (!slice.size) return;
    slices.push(slice);
    keeping?.add(await slice.arrayBuffer());
  };
  const ended = new Promise((resolve) => (recorder.onstop = resolve));
  recorder.start(SLICE_MS);
  const startsAt = context.currentTime;
  const times = [];
  const metronome = new Metronome(context);
  metronome.start({
    beatsPerMinute: data.tempo,
    at: context.currentTime + PRE_ROLL_S,
    count: data.countOff,
    onBeat: (number, time) => times.push(time + (context.outputLatency || 0)),
  });
  window.addEventListener("beforeunload", leaving);
  stream.getTracks().forEach((track) => (track.onended = () => running && stop(worded("The camera was taken away. What was filmed until then is here."))));
  document.querySelector("[data-recorder]").toggleAttribute("data-recording", true);
  document.dispatchEvent(new Event("recording"));
  part("[data-film-begin]").hidden = true;
  part("[data-film-stop]").hidden = false;
  const begun = Date.now();
  const ticking = setInterval(() => say(worded("Filming: {time}", { time: clock((Date.now() - begun) / 1000) })), 250);
  running = { recorder, ended, slices, keeping, context, metronome, ticking, times, startsAt, mime, id, step, free };
}

async function stop(trouble = "") {
  if (!running) return;
  const { recorder, ended, slices, keeping, context, metronome, ticking, times, startsAt, mime, id, step, free } = running;
  running = null;
  free();
  metronome.stop();
  clearInterval(ticking);
  if (recorder.state !== "inactive") recorder.stop();
  await ended;
  await context.close();
  const clicks = inTake(times, startsAt);
  await keeping?.finish({ clicks });
  document.querySelector("[data-recorder]").toggleAttribute("data-recording", false);
  made = { file: new Blob(slices, { type: mime }), keeping, clicks, id, step };
  part("[data-film-stop]").hidden = true;
  part("[data-film-check]").hidden = false;
  const video = part("[data-film-listen]");
  video.src = URL.createObjectURL(made.file);
  say(trouble || worded("Is everything in the picture, from the beginning to the end?"));
  await stills(video);
}

// Three pictures out of the film: begun, in the middle, ended.
async function stills(video) {
  const list = part("[data-stills]");
  list.replaceChildren();
  await new Promise((resolve) => (video.readyState >= 1 ? resolve() : (video.onloadedmetadata = resolve)));
  // Films of a recorder do not know how long they are until one has been at their end.
  if (!Number.isFinite(video.duration)) {
    video.currentTime = 1e7;
    await new Promise((resolve) => (video.ondurationchange = () => Number.isFinite(video.duration) && resolve()));
  }
  for (const share of STILLS) {
    video.currentTime = share * video.duration;
    await new Promise((resolve) => (video.onseeked = resolve));
    const canvas = document.createElement("canvas");
    canvas.width = 240;
    canvas.height = Math.round((240 * video.videoHeight) / Math.max(1, video.videoWidth));
    canvas.getContext("2d").drawImage(video, 0, 0, canvas.width, canvas.height);
    list.append(canvas);
  }
  video.onseeked = null;
  video.currentTime = 0;
}

async function deliver() {
  const button = part("[data-film-send]");
  button.disabled = true;
  made.keeping?.note({ wanted: true });
  try {
    const take = await send(made.file, {
      url: data.uploads,
      task: data.task,
      key: `take ${data.task} ${made.id}`,
      name: made.file.type.includes("mp4") ? "take.mp4" : "take.webm",
      step: made.step,
      clicks: made.clicks,
      onProgress: (share) => say(worded("Sent: {percent} %", { percent: Math.round(share * 100) })),
    });
    window.removeEventListener("beforeunload", leaving);
    await made.keeping?.drop();
    close();
    window.location.href = data.takePage.replace("/0/", `/${take}/`);
  } catch (error) {
    button.disabled = false;
    say(error.message);
  }
}

async function again() {
  await made?.keeping?.drop();
  made = null;
  window.removeEventListener("beforeunload", leaving);
  part("[data-film-check]").hidden = true;
  part("[data-film-begin]").hidden = false;
  say(worded("Look at the picture first: is everything in it?"));
}

function close() {
  stream?.getTracks().forEach((track) => {
    track.onended = null;
    track.stop();
  });
  stream = null;
  box.hidden = true;
}

if (box) {
  document.querySelector("[data-film-open]").addEventListener("click", open);
  const acts = { "film-begin": film, "film-stop": () => stop(), "film-send": deliver, "film-again": again, "film-close": close };
  for (const [name, act] of Object.entries(acts)) part(`[data-${name}]`).addEventListener("click", act);
}
