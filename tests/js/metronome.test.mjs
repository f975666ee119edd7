import assert from "node:assert/strict";
import { mock, test } from "node:test";

import { Metronome } from "../../didactor/static/js/metronome.js";

// An audio clock that stands until it is moved, and remembers when each click was to sound.
function clockwork() {
  const context = { currentTime: 0, clicks: [], gains: [], destination: {} };
  const gain = { setValueAtTime: (value, time) => context.gains.push([value, time]), exponentialRampToValueAtTime: (value, time) => context.gains.push([value, time]) };
  context.createGain = () => ({ gain, connect: () => ({}) });
  context.createOscillator = () => {
    const tone = { frequency: { value: 0 }, connect: (next) => next, stop() {} };
    tone.start = (time) => context.clicks.push([Number(time.toFixed(6)), tone.frequency.value]);
    return tone;
  };
  return context;
}

test("clicks lie on the beat however late the page's timers are", () => {
  mock.timers.enable({ apis: ["setInterval"] });
  const context = clockwork();
  const beats = [];
  const metronome = new Metronome(context);
  metronome.start({ beatsPerMinute: 90, at: 0.5, count: 4, onBeat: (number, time) => beats.push([number, Number(time.toFixed(6))]) });
  // The page is busy: its timer comes at odd moments, once far too late.
  for (const now of [0.3, 0.41, 0.43, 1.9, 2.5, 2.51, 4]) {
    context.currentTime = now;
    mock.timers.tick(25);
  }
  const due = [0, 1, 2, 3].map((k) => Number((0.5 + (k * 60) / 90).toFixed(6)));
  assert.deepEqual(context.clicks.map(([time]) => time), due);
  assert.deepEqual(beats, due.map((time, number) => [number, time]));
  mock.timers.reset();
});

test("the first beat sounds higher, and a stopped metronome is silent", () => {
  mock.timers.enable({ apis: ["setInterval"] });
  const context = clockwork();
  const metronome = new Metronome(context);
  metronome.start({ beatsPerMinute: 120, at: 0 });
  context.currentTime = 0.45;
  mock.timers.tick(25);
  assert.deepEqual(context.clicks, [[0, 1760], [0.5, 1320]]);
  metronome.stop();
  context.currentTime = 5;
  mock.timers.tick(1000);
  assert.equal(context.clicks.length, 2);
  mock.timers.reset();
});

test("a click is loud at its beat and has died away before the next one could come", () => {
  mock.timers.enable({ apis: ["setInterval"] });
  const context = clockwork();
  const metronome = new Metronome(context);
  metronome.start({ beatsPerMinute: 60, at: 1 });
  context.currentTime = 0.9;
  mock.timers.tick(25);
  const [[loud, begins], [quiet, ends]] = context.gains;
  assert.equal(begins, 1);
  assert.ok(loud > 100 * quiet);
  assert.ok(ends > 1.01 && ends < 1.2);
  metronome.stop();
  mock.timers.reset();
});
