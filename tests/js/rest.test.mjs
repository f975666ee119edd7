import assert from "node:assert/strict";
import { test } from "node:test";

import { OFTEN_S, caution, counted } from "../../didactor/static/js/rest.js";

test("only today's playing counts, over all pages", () => {
  const now = new Date(2026, 3, 5, 12);
  assert.equal(counted(`${now.toDateString()}|340`, now), 340);
  assert.equal(counted(`${new Date(2026, 3, 4).toDateString()}|340`, now), 0);
  for (const kept of [null, "", "x", `${now.toDateString()}|nan`]) assert.equal(counted(kept, now), 0);
});

test("a caution comes in the first minute and for a minute after every twenty", () => {
  const at = [0, 59, 60, OFTEN_S - 1, OFTEN_S, OFTEN_S + 59, OFTEN_S + 60, 2 * OFTEN_S, 3 * OFTEN_S - 1].map(caution);
  assert.deepEqual(at, ["first", "first", "", "", "often", "often", "", "often", ""]);
});
