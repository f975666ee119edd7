import assert from "node:assert/strict";
import { test } from "node:test";

import { wavFrom } from "../../didactor/static/js/wav.js";

test("samples come out as they went in, whatever blocks they came in, and too loud ones are cut", async () => {
  const blob = wavFrom([Float32Array.of(0, 0.5), Float32Array.of(), Float32Array.of(-1, 1.7, -3)], 48000);
  const view = new DataView(await blob.arrayBuffer());
  const word = (at) => String.fromCharCode(...[0, 1, 2, 3].map((i) => view.getUint8(at + i)));
  assert.deepEqual([word(0), word(8), word(36)], ["RIFF", "WAVE", "data"]);
  assert.deepEqual([view.getUint32(4, true), view.getUint32(40, true), blob.size], [46, 10, 54]);
  assert.deepEqual([view.getUint16(22, true), view.getUint32(24, true), view.getUint32(28, true), view.getUint16(34, true)], [1, 48000, 96000, 16]);
  const samples = [0, 1, 2, 3, 4].map((i) => view.getInt16(44 + 2 * i, true));
  assert.deepEqual(samples, [0, 16384, -32767, 32767, -32767]);
});
