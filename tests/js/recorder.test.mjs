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
const box = { querySelector: (name) => elements[name], addEventListener: (_, listener) => (press = listener) };
const page = {
  "[data-recorder]": box,
  "script[data-worklet]": { dataset: { worklet: "/capture.js" } },
};
globalThis.document = {
  querySelector: (name) => page[name] ?? null,
  getElementById: () => ({ textContent: JSON.stringify({ tempo: 120, countOff: 2, uploads: "/u", task: 7, takePage: "/t/0/", backing: null }) }),
};
const leaving = new Set();
globalThis.window = {
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
  createMediaStreamSource() { return { connect() {} }; }
  createGain() { return { gain: { setValueAtTime() {}, exponentialRampToValueAtTime() {} }, connect: () => ({}) }; }
  createOscillator() { return { frequency: { value: 0 }, connect: (next) => next, start() {}, stop() {} }; }
};
globalThis.AudioWorkletNode = class {
  constructor() {
    node = this;
    this.port = { onmessage: null, postMessage: (word) => word === "finish" && this.port.onmessage({ data: null }) };
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
  refused = broken = null;
  contexts = [];
});

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
  assert.equal(elements["[data-act=stop]"].hidden, false);
  node.port.onmessage({ data: { startsAt: 0.2 } });
  node.port.onmessage({ data: Float32Array.from([0.1, -0.5, 0.2]) });
  act("stop");
  await settled();
  assert.equal(track.stopped, true);
  assert.match(says(), /Then keep it/);
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
