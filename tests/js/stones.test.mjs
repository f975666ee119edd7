import assert from "node:assert/strict";
import { test } from "node:test";

import { cleanInWords, placeOn } from "../../didactor/static/js/road.js";
import { cleanStretches, stretches } from "../../didactor/static/js/stones.js";

const box = (number, left, top) => ({ number, left, right: left + 100, top, bottom: top + 60 });
const BOXES = [box("1", 0, 0), box("2", 100, 0), box("3", 0, 200), box("4", 100, 200)];

test("a stone is one stretch in each system that it lies in", () => {
  assert.deepEqual(stretches(BOXES, "1", "2"), [{ left: 0, right: 200, top: 0, bottom: 60 }]);
  assert.deepEqual(stretches(BOXES, "2", "3"), [{ left: 100, right: 200, top: 0, bottom: 60 }, { left: 0, right: 100, top: 200, bottom: 260 }]);
  assert.deepEqual(stretches(BOXES, "4", "4").length, 1);
  assert.deepEqual(stretches(BOXES, "9", "1"), []);
  assert.deepEqual(stretches(BOXES, "3", "1"), []);
});

test("the place in the passage follows the stretches that are played, wherever they lie", () => {
  // Bars 5 and 1 in turn, four quarters each.
  const road = [[0, 16, 4], [4, 0, 4], [8, 16, 4]];
  assert.equal(placeOn(road, 0), 16);
  assert.equal(placeOn(road, 3.5), 19.5);
  assert.equal(placeOn(road, 4), 0);
  assert.equal(placeOn(road, 9), 17);
  assert.equal(placeOn(road, 99), 20);
  assert.equal(placeOn([], 1), null);
  assert.equal(placeOn(road, -1), 16);
});

test("bars that were clean at the same tempo are named together, in the order of the score", () => {
  const order = ["1", "2", "3", "4", "2"];
  assert.equal(cleanInWords(new Map([["1", 60], ["2", 60], ["4", 72]]), order), "bars 1–2 at 60, bar 4 at 72");
  assert.equal(cleanInWords(new Map(), order), "");
  assert.equal(cleanInWords(new Map([["2", 60], ["3", 60]]), order), "bars 2–3 at 60");
});

test("the line of clean tempi breaks where the tempo, the system or the knowledge changes", () => {
  const found = cleanStretches(BOXES, { 1: 60, 2: 60, 3: 60 });
  assert.deepEqual(found.map(({ tempo, left, right, top }) => [tempo, left, right, top]), [[60, 0, 200, 0], [60, 0, 100, 200]]);
  assert.equal(cleanStretches(BOXES, { 1: 60, 2: 72 }).length, 2);
  assert.equal(cleanStretches(BOXES, { 1: 60, 4: 60 }).length, 2);
  assert.deepEqual(cleanStretches(BOXES, {}), []);
});
