import assert from "node:assert/strict";
import test from "node:test";

import { Clicks, dueClicks } from "../../didactor/static/js/clicks.js";

test("a click is due once: the end of one stretch is not the beginning of the next", () => {
  const clicks = [[1, true], [2, false], [3, false]];
  assert.deepEqual(dueClicks(clicks, 0.5, 2), [[1, true], [2, false]]);
  assert.deepEqual(dueClicks(clicks, 2, 3), [[3, false]]);
});

function lay(rate = 1) {
  const made = [];
  const param = { setValueAtTime() {}, exponentialRampToValueAtTime() {} };
  const context = { currentTime: 10, resume() {}, createOscillator: () => ({ frequency: {}, connect: (gain) => gain, start: (at) => made.push(at), stop() {} }), createGain: () => ({ gain: param, connect() {} }) };
  const audio = { paused: false, playbackRate: rate, addEventListener() {} };
  let place = 0;
  const laid = new Clicks(audio, { own: [[1, true], [1.05, false], [4, false]] }, () => place);
  laid.context = context;
  laid.choose("own");
  clearInterval(laid.timer);
  return { made, laid, at: (time) => ((place = time), laid.schedule()) };
}

test("clicks come when their place sounds, at half the speed twice as far away, and none twice", () => {
  const { made, at } = lay(0.5);
  at(0.95);
  at(0.97);
  assert.deepEqual(made.map((time) => Number(time.toFixed(3))), [10.1]);
  at(1.0);
  assert.equal(made.length, 2);
});

test("what lies between is not clicked after a jump, forward or back", () => {
  const { made, at } = lay();
  at(0.2);
  at(3.9);
  assert.equal(made.length, 1);
  at(0.9);
  assert.equal(made.length, 3);
});
