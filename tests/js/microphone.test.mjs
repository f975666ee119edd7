import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";

import { chooseInput, chosenInput, microphone, processing } from "../../didactor/static/js/microphone.js";

const kept = new Map();
globalThis.localStorage = { getItem: (key) => kept.get(key) ?? null, setItem: (key, value) => kept.set(key, value), removeItem: (key) => kept.delete(key) };
let wanted = null;
let refused = null;
const devices = { getUserMedia: async (options) => {
  wanted = options.audio;
  if (refused) throw refused;
  return {};
} };
const browser = (mediaDevices) => Object.defineProperty(globalThis, "navigator", { configurable: true, value: { mediaDevices } });

beforeEach(() => {
  kept.clear();
  refused = null;
  browser(devices);
});

test("the microphone is asked for without the browser's processing, from the input that was chosen here", async () => {
  await microphone();
  assert.deepEqual(wanted, { echoCancellation: false, noiseSuppression: false, autoGainControl: false });
  chooseInput("usb");
  await microphone();
  assert.deepEqual(wanted.deviceId, { ideal: "usb" });
  chooseInput("");
  assert.equal(chosenInput(), "");
  await microphone();
  assert.equal("deviceId" in wanted, false);
});

test("a microphone that is refused, missing or not for this page says what to do", async () => {
  refused = Object.assign(new Error(), { name: "NotAllowedError" });
  await assert.rejects(microphone(), /Allow it in the browser/);
  refused = Object.assign(new Error(), { name: "NotFoundError" });
  await assert.rejects(microphone(), /No microphone was found/);
  browser(undefined);
  await assert.rejects(microphone(), /secure address/);
});

test("what the browser does to the sound all the same is told", () => {
  const stream = (settings) => ({ getAudioTracks: () => [{ getSettings: () => settings }] });
  assert.deepEqual(processing(stream({ echoCancellation: true, noiseSuppression: false })), ["takes echoes out"]);
  assert.deepEqual(processing(stream({ autoGainControl: true, noiseSuppression: true })), ["takes noise out", "changes the level by itself"]);
  assert.deepEqual(processing(stream({})), []);
  assert.deepEqual(processing({}), []);
});
