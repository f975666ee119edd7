import assert from "node:assert/strict";
import { beforeEach, mock, test } from "node:test";

// A page, a microphone and an audio clock of our own: the recorder finds them where a browser has them.
const named = ["[data-says]", "[data-act=record]", "[data-act=stop]", "[data-metronome]", "[data-backing]", "[data-beats]", "[data-clock]"];
named.push("[data-level]", "[data-listen]", "[data-save]", "[data-check]", "[data-progress]");

function element() {
  const parts = { progress: { value: 0 }, span: { textContent: "" } };
  return {
    textContent: "", hidden: false, disabled: false, checked: false, attributes: {},
    setAttribute(name, value) { this.attributes[name] = value; },
    classList: { toggle() {} },
    querySelector: (name) => parts[name],
  };
}

const elements = Object.fromEntries(named.map((name) => [name, element()]));
let press = null;
const marked = new Set();
const box = { toggleAttribute: (name, on) => (on ? marked.add(name) : marked.delete(name)), querySelector: (name) => elements[name], addEventListener: (_, listener) => (press = listener) };
const page = {
  "[data-recorder]": box,
  "script[data-worklet]": { dataset: { worklet: "/capture.js" } },
};
const told = [];
globalThis.document = {
  dispatchEvent: (event) => told.push(event.type),
  querySelector: (name) => page[name] ?? null,
  getElementById: () => ({ textContent: JSON.stringify({ tempo: 120, countOff: 2, keepGoing: true, uploads: "/u", task: 7, takePage: "/t/0/", backing: { url: "/b", sound: 12, leadS: 4.3 } }) }),
};
const leaving = new Set();
// The uploading package, which remembers what it was given.
let upload = null;
class Upload {
  constructor(file, options) { Object.assign(this, { file, options }); upload = this; }
  async findPreviousUploads() { return []; }
  start() {}
}
globalThis.document.body = { getAttribute: () => "{}" };
globalThis.fetch = async () => ({ ok: true, arrayBuffer: async () => new ArrayBuffer(0) });
globalThis.window = {
  tus: { Upload },
  location: { href: "" },
  addEventListener: (name, listener) => leaving.add(`${name} ${listener.name}`),
  removeEventListener: (name, listener) => leaving.delete(`${name} ${listener.name}`),
};
let track = null;
let refused = null;
let broken = null;
let node = null;
let contexts = [];
Object.defineProperty(globalThis, "navigator", {
  configurable: true,
  value: { mediaDevices: { getUserMedia: async () => {
    if (refused) throw refused;
    track = { stopped: false, onended: null, stop() { this.stopped = true; } };
    return { getTracks: () => [track] };
  } } },
});
globalThis.AudioContext = class {
  constructor() {
    Object.assign(this, { currentTime: 0, sampleRate: 8000, outputLatency: 0.1, closed: false, destination: {} });
    this.audioWorklet = { addModule: async () => { if (broken) throw broken; } };
    contexts.push(this);
  }
  async resume() {}
  async close() { this.closed = true; }
  async decodeAudioData() { return {}; }
  createBufferSource() { return (this.track = { connect() {}, start: (time) => (this.trackAt = time) }); }
  createMediaStreamSource() { return { connect() {} }; }
  createGain() { return { gain: { setValueAtTime() {}, exponentialRampToValueAtTime() {} }, connect: () => ({}) }; }
  createOscillator() { return { frequency: { value: 0 }, connect: (next) => next, start() {}, stop() {} }; }
};
globalThis.AudioWorkletNode = class {
  constructor() {
    node = this;
    this.port = { onmessage: null, postMessage: (word) => word === "finish" && this.port.onmessage({ data: null }) };
    // A worklet says when it took its first sample once it runs, and that is never at once.
    queueMicrotask(() => this.port.onmessage({ data: { startsAt: 0 } }));
  }
};
URL.createObjectURL = () => "blob:take";
mock.timers.enable({ apis: ["setInterval", "setTimeout"] });
await import("../../didactor/static/js/recorder.js");

const act = (name) => press({ target: { closest: () => ({ dataset: { act: name } }) } });
const settled = async () => { for (let k = 0; k < 30; k += 1) await Promise.resolve(); };
const asksFirst = () => [...leaving].some((entry) => entry.startsWith("beforeunload"));
const says = () => elements["[data-says]"].textContent;

beforeEach(() => {
  refused = broken = upload = null;
  contexts = [];
  elements["[data-metronome]"].checked = elements["[data-backing]"].checked = false;
});

// From the moment at which the recording began until a time of the audio clock.
function recordUntil(seconds, startsAt = 0.2) {
  node.port.onmessage({ data: { startsAt } });
  node.port.onmessage({ data: Float32Array.from([0.4]) });
  for (const context = contexts[0]; context.currentTime < seconds; context.currentTime += 0.05) mock.timers.tick(50);
}

async function recordedAndSent() {
  recordUntil(3);
  act("stop");
  await settled();
  act("send");
  await settled();
}

test("a microphone that is not allowed says what to do, and Record can be pressed again", async () => {
  refused = Object.assign(new Error("no"), { name: "NotAllowedError" });
  act("record");
  await settled();
  assert.match(says(), /Allow it in the browser/);
  assert.equal(elements["[data-act=record]"].disabled, false);
  assert.equal(contexts.length, 0);
});

test("when the recording cannot begin the microphone is given back", async () => {
  broken = new Error("the module did not load");
  act("record");
  await settled();
  assert.match(says(), /could not begin: the module did not load/);
  assert.equal(track.stopped, true);
  assert.equal(contexts[0].closed, true);
  assert.equal(elements["[data-act=record]"].hidden, false);
  assert.equal(elements["[data-act=stop]"].hidden, true);
  assert.equal(asksFirst(), false);
});

test("from the count-off until it is kept leaving asks first", async () => {
  act("record");
  await settled();
  assert.equal(asksFirst(), true);
  assert.deepEqual([[...marked], told], [["data-recording"], ["recording"]]);
  assert.equal(elements["[data-act=stop]"].hidden, false);
  node.port.onmessage({ data: { startsAt: 0.2 } });
  node.port.onmessage({ data: Float32Array.from([0.1, -0.5, 0.2]) });
  act("stop");
  await settled();
  assert.equal(track.stopped, true);
  assert.match(says(), /Then keep it/);
  assert.equal(marked.size, 0);
  assert.equal(elements["[data-check]"].hidden, false);
  assert.equal(asksFirst(), true);
});

test("a take with hardly any sound is told before it is kept", async () => {
  act("again");
  await settled();
  node.port.onmessage({ data: { startsAt: 0.2 } });
  node.port.onmessage({ data: Float32Array.from([0.001, -0.002]) });
  act("stop");
  await settled();
  assert.match(says(), /hardly any sound/);
});

test("a microphone that is taken away ends the recording, and keeps what there is", async () => {
  act("again");
  await settled();
  node.port.onmessage({ data: { startsAt: 0.2 } });
  node.port.onmessage({ data: Float32Array.from([0.4]) });
  track.onended();
  await settled();
  assert.match(says(), /taken away/);
  assert.equal(elements["[data-check]"].hidden, false);
});

test("a count-off of two clicks is told as it comes out of the loudspeaker, counted from where the take begins", async () => {
  act("again");
  await settled();
  await recordedAndSent();
  // Due 0.6 s after the start and half a second later; 0.1 s through the loudspeaker; the take begins at 0.2 s.
  assert.equal(upload.options.metadata.clicks, "0.500 1.000");
  assert.equal(upload.options.metadata.backing, "");
});

test("the metronome goes on clicking where that was asked", async () => {
  elements["[data-metronome]"].checked = true;
  act("again");
  await settled();
  await recordedAndSent();
  assert.match(upload.options.metadata.clicks, /^0\.500 1\.000 1\.500 2\.000 /);
});

test("an accompaniment counts off by itself, and it is told when it was heard to begin", async () => {
  elements["[data-backing]"].checked = true;
  act("again");
  await settled();
  assert.equal(contexts[0].trackAt, 0.6);
  await recordedAndSent();
  assert.equal(upload.options.metadata.clicks, "");
  assert.equal(upload.options.metadata.backing, "12 0.500");
});

test("beats are counted aloud up to the count-off's length, then playing is timed from its end", async () => {
  act("again");
  await settled();
  recordUntil(0.75);
  assert.equal(elements["[data-beats]"].textContent, "1");
  recordUntil(1.25);
  assert.equal(elements["[data-beats]"].textContent, "2");
  assert.equal(elements["[data-clock]"].textContent, "0:00");
  recordUntil(3.75);
  assert.equal(elements["[data-beats]"].textContent, "");
  assert.equal(elements["[data-clock]"].textContent, "0:02");
  act("stop");
  await settled();
});

test("a call that takes the microphone for a while is said, and the recording goes on", async () => {
  act("again");
  await settled();
  node.port.onmessage({ data: { startsAt: 0.2 } });
  node.port.onmessage({ data: Float32Array.from([0.4]) });
  recordUntil(3);
  assert.match(says(), /Recording/);
  track.onmute();
  recordUntil(4);
  assert.match(says(), /perhaps a call/);
  assert.equal(track.stopped, false);
  track.onunmute();
  recordUntil(5);
  assert.match(says(), /Recording/);
  act("stop");
  await settled();
});

test("after twenty minutes of playing, and not before, the recording stops by itself", async () => {
  act("again");
  await settled();
  node.port.onmessage({ data: { startsAt: 0.2 } });
  node.port.onmessage({ data: Float32Array.from([0.4]) });
  contexts[0].currentTime = 1.6 + 20 * 60 - 1;
  mock.timers.tick(200);
  await settled();
  assert.equal(track.stopped, false);
  contexts[0].currentTime += 1.5;
  mock.timers.tick(200);
  await settled();
  assert.equal(track.stopped, true);
  assert.equal(elements["[data-check]"].hidden, false);
});

test("the level follows the loudest sample, and says when it is too loud", async () => {
  const level = elements["[data-level]"];
  const hot = [];
  level.classList.toggle = (_, on) => hot.push(on);
  act("again");
  await settled();
  node.port.onmessage({ data: { startsAt: 0.2 } });
  node.port.onmessage({ data: Float32Array.from([0.001, -0.1]) });
  assert.equal(Number(level.attributes.width), 66.7);
  node.port.onmessage({ data: Float32Array.from([-0.99]) });
  node.port.onmessage({ data: Float32Array.from([0]) });
  assert.equal(Number(level.attributes.width), 0);
  assert.deepEqual(hot, [false, true, false]);
  act("stop");
  await settled();
});
