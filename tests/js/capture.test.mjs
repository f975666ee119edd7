import assert from "node:assert/strict";
import test from "node:test";

let Capture = null;
globalThis.AudioWorkletProcessor = class {
  constructor() {
    this.sent = [];
    this.port = { postMessage: (message) => this.sent.push(message) };
  }
};
globalThis.registerProcessor = (_, made) => (Capture = made);
globalThis.currentTime = 1.25;
await import("../../didactor/static/js/capture.js");

const quantum = (value) => new Float32Array(128).fill(value);

test("a microphone that delivers nothing for a while is silence that long", () => {
  const capture = new Capture();
  for (let k = 0; k < 16; k += 1) capture.process([[]]);
  for (let k = 0; k < 16; k += 1) capture.process([[quantum(0.5), quantum(0.1)]]);
  const [begun, block] = capture.sent;
  assert.deepEqual(begun, { startsAt: 1.25 });
  assert.equal(block.length, 4096);
  assert.deepEqual([block[0], block[2047]], [0, 0]);
  assert.ok(Math.abs(block[2048] - 0.3) < 1e-6 && Math.abs(block[4095] - 0.3) < 1e-6);
});

test("told to finish it hands on what is left, and then nothing more", () => {
  const capture = new Capture();
  capture.process([[quantum(0.25)]]);
  capture.port.onmessage();
  assert.equal(capture.sent[1].length, 128);
  assert.equal(capture.sent[2], null);
  assert.equal(capture.process([[quantum(0.25)]]), false);
});
