// A few words said or filmed on the spot, put into the form they belong to. Without this script a file is chosen there.

import { microphone } from "./microphone.js";
import { clock } from "./timeline.js";
import { worded } from "./words.js";

const KINDS = { sound: ["audio/webm;codecs=opus", "audio/webm", "audio/mp4"], film: ["video/webm;codecs=vp8,opus", "video/webm", "video/mp4"] };
// Longer remarks are not heard to their end.
const LONGEST_S = 180;
// A lesson's passage is longer than a remark.
const LONGEST_LIVE_S = 1200;

export const suffixOf = (mime) => (mime.includes("mp4") ? "mp4" : "webm");

let running = null;

const show = (box, state) => {
  const has = (name) => box.querySelector(`[data-say-${name}]`);
  box.querySelectorAll("[data-say-begin]").forEach((button) => (button.hidden = state !== "open"));
  has("end").hidden = state !== "running";
  has("file").hidden = true;
  has("live").hidden = state !== "running" || !has("live").srcObject;
  has("heard").hidden = state !== "made";
  has("drop").hidden = state !== "made";
};

async function openInput(kind) {
  if (kind === "sound") return microphone();
  try {
    return await navigator.mediaDevices.getUserMedia({ audio: true, video: { width: { ideal: 960 }, frameRate: { ideal: 30 } } });
  } catch {
    throw new Error(worded("No camera may be used here. Say it, or choose a film made elsewhere."));
  }
}

async function begin(box, kind) {
  if (running) return;
  const words = box.querySelector("[data-say-words]");
  const mime = KINDS[kind].find((one) => window.MediaRecorder?.isTypeSupported(one));
  if (!mime) return (words.textContent = worded("This browser cannot record here."));
  let stream;
  try {
    stream = await openInput(kind);
  } catch (error) {
    return (words.textContent = error.message);
  }
  document.querySelector("[data-take-sound]")?.pause();
  const live = box.querySelector("[data-say-live]");
  live.srcObject = kind === "film" ? stream : null;
  if (kind === "film") live.play().catch(() => {});
  const slices = [];
  const recorder = new MediaRecorder(stream, { mimeType: mime });
  recorder.ondataavailable = ({ data }) => data.size && slices.push(data);
  recorder.onstop = () => made(box, new Blob(slices, { type: mime }), mime);
  recorder.start(1000);
  const begun = Date.now();
  const ticking = setInterval(() => {
    const spent = (Date.now() - begun) / 1000;
    words.textContent = clock(spent);
    if (spent > (box.closest("[data-live]") ? LONGEST_LIVE_S : LONGEST_S)) end();
  }, 250);
  running = { recorder, stream, ticking, live };
  show(box, "running");
}

function end() {
  if (!running) return;
  const { recorder, stream, ticking, live } = running;
  running = null;
  clearInterval(ticking);
  if (recorder.state !== "inactive") recorder.stop();
  stream.getTracks().forEach((track) => track.stop());
  live.srcObject = null;
}

function made(box, blob, mime) {
  const files = new DataTransfer();
  files.items.add(new File([blob], `said.${suffixOf(mime)}`, { type: mime.split(";")[0] }));
  box.querySelector("input[type=file]").files = files.files;
  box.querySelector("[data-say-heard]").src = URL.createObjectURL(blob);
  box.querySelector("[data-say-words]").textContent = worded("Hear it first.");
  show(box, "made");
}

function drop(box) {
  box.querySelector("input[type=file]").value = "";
  box.querySelector("[data-say-words]").textContent = "";
  show(box, "open");
}

function arrive() {
  if (!navigator.mediaDevices?.getUserMedia) return;
  document.querySelectorAll("[data-say]:not([data-ready])").forEach((box) => {
    box.dataset.ready = "yes";
    show(box, "open");
  });
}

if (typeof document !== "undefined") {
  document.addEventListener("click", ({ target }) => {
    const box = target.closest?.("[data-say]");
    if (!box) return;
    const kind = target.closest("[data-say-begin]")?.dataset.sayBegin;
    if (kind) begin(box, kind);
    else if (target.closest("[data-say-end]")) end();
    else if (target.closest("[data-say-drop]")) drop(box);
  });
  window.addEventListener("pagehide", end);
  document.addEventListener("htmx:afterSettle", arrive);
  arrive();
}
