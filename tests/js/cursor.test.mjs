import assert from "node:assert/strict";
import { test } from "node:test";

import { placeAt } from "../../didactor/static/js/cursor.js";

const SYSTEMS = [{ left: 0, right: 400, top: 10, bottom: 60 }, { left: 0, right: 380, top: 90, bottom: 140 }];
const STOPS = [
  { quarters: 0, x: 50, system: 0 },
  { quarters: 1, x: 150, system: 0 },
  { quarters: 3, x: 300, system: 0 },
  { quarters: 4, x: 60, system: 1 },
];

test("the line is on a note when the note is due, and goes evenly to the next one", () => {
  assert.equal(placeAt(STOPS, SYSTEMS, 0).x, 50);
  assert.equal(placeAt(STOPS, SYSTEMS, 1).x, 150);
  assert.equal(placeAt(STOPS, SYSTEMS, 2).x, 225);
});

test("from the last note of a system it goes to the system's end, and then to the next one's first note", () => {
  assert.equal(placeAt(STOPS, SYSTEMS, 3.5).x, 350);
  assert.deepEqual(placeAt(STOPS, SYSTEMS, 4), { x: 60, system: 1, top: 90, bottom: 140 });
  assert.equal(placeAt(STOPS, SYSTEMS, 9).x, 60);
});

test("where a repeat leads back, the line goes to the end of its system, not backwards", () => {
  const back = [{ quarters: 0, x: 200, system: 0 }, { quarters: 2, x: 50, system: 0 }];
  assert.equal(placeAt(back, SYSTEMS, 1).x, 300);
});

test("before the beginning it waits at the first note; without notes there is no line", () => {
  assert.equal(placeAt(STOPS, SYSTEMS, -1).x, 50);
  assert.equal(placeAt([], [], 0), null);
});
