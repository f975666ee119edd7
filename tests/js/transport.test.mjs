import assert from "node:assert/strict";
import { beforeEach, mock, test } from "node:test";

import { along, even } from "../../didactor/static/js/timing.js";
import { Transport, clicksIn, heardNow } from "../../didactor/static/js/transport.js";

// Two bars of four quarters after an upbeat of one; quarters last half a second.
const BARS = [["0", 1, 0, 1, 1], ["1", 1, 1, 4, 1], ["2", 1, 5, 4, 1]];

let context;
beforeEach(() => {
  context = {
    currentTime: 10, outputLatency: 0, destination: {}, clicks: [], sources: [],
    createGain: () => ({ gain: { setValueAtTime(value) { context.loudness = value; }, exponentialRampToValueAtTime() {} }, connect: (next) => next }),
    createOscillator: () => ({ frequency: { value: 0 }, connect: (next) => next, start: (time) => context.clicks.push(Number(time.toFixed(3))), stop() {} }),
    createBufferSource: () => {
      const source = { connect() {}, start: (...when) => (source.when = when), stop: () => (source.stopped = true) };
      context.sources.push(source);
      return source;
    },
  };
  mock.timers.reset();
  mock.timers.enable({ apis: ["setInterval"] });
});

const until = (time) => {
  while (context.currentTime < time) {
    context.currentTime += 0.025;
    mock.timers.tick(25);
  }
};
const near = (a, b) => assert.ok(Math.abs(a - b) < 1e-3, `${a} is not ${b}`);
const SOUND = { buffer: {}, leadS: 0.3 };

test("clicks fall on the beats of each bar, parts between them, the first the strongest", () => {
  assert.deepEqual(clicksIn(BARS, 0, 9).map(([at]) => at), [0, 1, 2, 3, 4, 5, 6, 7, 8]);
  assert.deepEqual(clicksIn(BARS, 1, 3, 2), [[1, 1], [1.5, 0.3], [2, 0.7], [2.5, 0.3]]);
  assert.deepEqual(clicksIn([["1", 1, 0, 3, 1.5]], 0, 3, 3).map(([at]) => at), [0, 0.5, 1, 1.5, 2, 2.5]);
});

test("what is heard now is the output's own time carried on, or the clock less the way to the ear", () => {
  near(heardNow({ currentTime: 5, outputLatency: 0.2 }), 4.8);
  const stamp = { contextTime: 3, performanceTime: performance.now() - 50 };
  assert.ok(Math.abs(heardNow({ getOutputTimestamp: () => stamp }) - 3.05) < 0.03);
});

test("the count-off leads to the first full bar: an upbeat is played inside it", () => {
  const transport = new Transport(context);
  transport.start({ sounds: [SOUND], timing: even(0.5), from: 0, to: 9, count: 4, overlap: 1 });
  assert.deepEqual(context.clicks.slice(0, 4), [10.12, 10.62, 11.12, 11.62]);
  near(context.sources[0].when[0], 11.62);
  near(context.sources[0].when[1], 0.3);
  context.currentTime = 10.7;
  assert.deepEqual([transport.position().counted, transport.position().begun, transport.position().quarters], [2, false, 0]);
  context.currentTime = 13.12;
  near(transport.position().quarters, 3);
  assert.equal(transport.position().begun, true);
  transport.stop();
});

test("a stretch begins inside the sound, and stops by itself after its end", () => {
  const transport = new Transport(context);
  let ended = 0;
  transport.start({ sounds: [SOUND], timing: even(0.5), from: 5, to: 9, onEnd: () => (ended += 1) });
  near(context.sources[0].when[1], 0.3 + 2.5);
  near(context.sources[0].when[2], 2 + 0.6);
  until(12.3);
  assert.equal(ended, 0);
  assert.equal(transport.running, true);
  until(12.6);
  assert.equal(ended, 1);
  assert.equal(transport.running, false);
});

test("round and round the next round begins where the last one ends", () => {
  const transport = new Transport(context);
  transport.start({ sounds: [SOUND], timing: even(0.5), from: 1, to: 5, again: true, clicks: clicksIn(BARS, 1, 5) });
  until(16.3);
  assert.deepEqual(context.sources.map((s) => Number(s.when[0].toFixed(2))), [10.12, 12.12, 14.12, 16.12]);
  assert.equal(context.sources[0].when[2], 2);
  assert.equal(context.clicks.filter((time) => time < 16.1).length, 12);
  context.currentTime = 14.62;
  near(transport.position().quarters, 2);
  transport.stop();
  assert.equal(context.sources.at(-1).stopped, true);
});

test("an accompaniment that counts off by itself is heard from its beginning", () => {
  const transport = new Transport(context);
  transport.start({ sounds: [{ buffer: {}, leadS: 4, counts: true }, SOUND], timing: even(0.5), from: 0, to: 9, count: 4 });
  assert.deepEqual(context.clicks, []);
  near(context.sources[0].when[0], 10.12);
  near(context.sources[0].when[1], 0);
  // The melody joins it where the passage begins.
  near(context.sources[1].when[0], 14.12);
  near(context.sources[1].when[1], 0.3);
  context.currentTime = 15.12;
  near(transport.position().quarters, 2);
  transport.stop();
});

test("silent clicks are not made", () => {
  const transport = new Transport(context);
  transport.start({ timing: even(0.5), from: 0, to: 9, clicks: clicksIn(BARS, 0, 9), volume: 0 });
  until(11);
  assert.deepEqual(context.clicks, []);
  transport.stop();
});

test("with a teacher's own playing, count-off, clicks and place follow its time", () => {
  const transport = new Transport(context);
  const timing = along([[0, 2], [4, 4], [8, 8]]);
  transport.start({ sounds: [{ buffer: {}, leadS: 0 }], timing, from: 4, to: 8, count: 2, beat: 1, clicks: [[4, 1], [6, 1]] });
  // Here a quarter lasts a second.
  assert.deepEqual(context.clicks.slice(0, 2).map((time) => Number(time.toFixed(2))), [10.12, 11.12]);
  near(context.sources[0].when[0], 12.12);
  near(context.sources[0].when[1], 4);
  until(14.3);
  near(context.clicks.at(-1), 14.12);
  context.currentTime = 15.12;
  near(transport.position().quarters, 7);
  transport.stop();
});

test("from a bar inside, an accompaniment begins there and the page counts off", () => {
  const transport = new Transport(context);
  transport.start({ sounds: [{ buffer: {}, leadS: 4, counts: true }], timing: even(0.5), from: 4, to: 9, count: 4 });
  assert.equal(context.clicks.length, 4);
  near(context.sources[0].when[0], 12.12);
  near(context.sources[0].when[1], 6);
  transport.stop();
});
