import assert from "node:assert/strict";
import { test } from "node:test";

import { barSpan, clock, noteAt, wavePath } from "../../didactor/static/js/timeline.js";
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
