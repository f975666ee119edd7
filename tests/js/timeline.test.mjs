import assert from "node:assert/strict";
import { test } from "node:test";

import { Playhead, barSpan, clock, heardAt, inTake, noteAt, wavePath } from "../../didactor/static/js/timeline.js";
import { rangeOf } from "../../didactor/static/js/ranges.js";
import { wavFrom } from "../../didactor/static/js/wav.js";

const data = { duration: 9, bars: [["1", "1", 0.5], ["2", "1", 2.5], ["3", "1", 4.5], ["2", "2", 6.5]] };

test("clock shows minutes and seconds", () => {
  assert.deepEqual([clock(0), clock(61.9), clock(-1)], ["0:00", "1:01", "0:00"]);
});

test("the note that sounds is the last one begun", () => {
  const notes = [["a", 1, 1, 2], ["b", 1, 2, 3]];
  assert.deepEqual([noteAt(notes, 0.5), noteAt(notes, 1.5), noteAt(notes, 2.01), noteAt(notes, 4)], [null, "a", "b", null]);
});

test("a bar lasts until the next sound after it", () => {
  assert.deepEqual(barSpan(data, "1", "1"), [0.5, 2.5]);
  assert.deepEqual(barSpan(data, "1", "3"), [0.5, 6.5]);
  assert.equal(barSpan(data, "9", "9"), null);
});

test("a waveform is a closed outline", () => {
  assert.equal(wavePath([]), "");
  assert.match(wavePath([0.5, 1]), /^M0,50 L.*Z$/);
});

test("a range of one bar is that bar", () => {
  assert.deepEqual([rangeOf("3", "3"), rangeOf("3", "5")], ["3", "3-5"]);
});

test("a recording becomes a WAV of its own length", async () => {
  const blob = wavFrom([new Float32Array([0, 1, -1]), new Float32Array([0.5])], 48000);
  const view = new DataView(await blob.arrayBuffer());
  assert.equal(view.byteLength, 44 + 8);
  assert.deepEqual([view.getUint32(24, true), view.getInt16(46, true), view.getInt16(48, true)], [48000, 32767, -32767]);
});

test("clicks before the take began are not in it", () => {
  assert.deepEqual(inTake([10.0, 10.5, 11.0], 10.25), [0.25, 0.75]);
  assert.deepEqual(inTake([10.0], null), []);
});

test("an accompaniment is heard as late as the loudspeaker plays it", () => {
  assert.equal(heardAt(12, 0.25, 11.5), 0.75);
  assert.equal(heardAt(11, 0.25, 11.5), 0);
  assert.equal(heardAt(null, 0.25, 11.5), null);
  assert.equal(heardAt(12, 0.25, null), null);
});

test("the copy's sound lies behind the recording's times", () => {
  const head = new Playhead(0.12);
  assert.ok(Math.abs(head.inFile(2) - 2.12) < 1e-9);
  assert.ok(Math.abs(head.inTake(head.inFile(2)) - 2) < 1e-9);
  assert.equal(head.inFile(-5), 0);
});

test("a place is played to its end, once", () => {
  const head = new Playhead(0);
  head.until = 3;
  assert.deepEqual([head.due(2.9), head.due(3), head.due(3.1)], [null, "stop", null]);
});

test("a loop goes round until it is taken away", () => {
  const head = new Playhead(0);
  head.loop = { start: 1, end: 4 };
  assert.deepEqual([head.due(3.9), head.due(4), head.due(9)], [null, 1, 1]);
  head.loop = null;
  assert.equal(head.due(9), null);
  // The end of a place stops before a loop begins again.
  head.loop = { start: 1, end: 4 };
  head.until = 4;
  assert.deepEqual([head.due(4), head.due(4)], ["stop", 1]);
});
