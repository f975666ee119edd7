import assert from "node:assert/strict";
import { test } from "node:test";

import { along, even } from "../../didactor/static/js/timing.js";

const near = (a, b) => assert.ok(Math.abs(a - b) < 1e-9, `${a} is not ${b}`);

test("of a rendered sound all quarters are alike", () => {
  near(even(0.5).seconds(7), 3.5);
  near(even(0.5).quarters(3.5), 7);
});

test("of a played one they bend with it, there and back", () => {
  const timing = along([[0, 2], [4, 4], [6, 6], [8, 7]]);
  for (const [quarters, seconds] of [[0, 2], [2, 3], [5, 5], [7, 6.5], [8, 7]]) {
    near(timing.seconds(quarters), seconds);
    near(timing.quarters(seconds), quarters);
  }
});

test("before the first and after the last moment the pace goes on", () => {
  const timing = along([[0, 2], [4, 4], [8, 8]]);
  near(timing.seconds(-1), 1.5);
  near(timing.seconds(9), 9);
  near(timing.quarters(10), 10);
});
