import assert from "node:assert/strict";
import test from "node:test";

import { column } from "../../didactor/static/js/reel.js";

const rows = [
  { sound: "/a", bars: [[0, 1], [1, 2]] },
  { sound: null, bars: [[0, 1], [1, 2]] },
  { sound: "/c", bars: [null, [4, 5]] },
];

test("a column is everybody who played the bar and has a sound, in order", () => {
  assert.deepEqual(column(rows, 1), [[0, 1, 2], [2, 4, 5]]);
  assert.deepEqual(column(rows, 0), [[0, 0, 1]]);
});

test("a cell is one of them alone", () => {
  assert.deepEqual(column(rows, 1, new Set([2])), [[2, 4, 5]]);
  assert.deepEqual(column(rows, 0, new Set([2])), []);
});
