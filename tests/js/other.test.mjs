import assert from "node:assert/strict";
import test from "node:test";

import { bridge } from "../../didactor/static/js/other.js";

test("the same place in the other sound, and back again", () => {
  const { toOther, toTake } = bridge([[1, 0.3], [3, 2.3], [5, 3.3]]);
  const close = (value, wanted) => assert.ok(Math.abs(value - wanted) < 1e-9, value);
  close(toOther(2), 1.3);
  close(toOther(4), 2.8);
  close(toTake(2.8), 4);
});

test("before the first place nothing lies below nothing", () => {
  const { toOther, toTake } = bridge([[5, 0.3], [6, 1.3]]);
  assert.equal(toOther(0), 0);
  assert.equal(toTake(0) >= 0, true);
});
