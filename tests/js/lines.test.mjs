import assert from "node:assert/strict";
import { test } from "node:test";

import { lineAt } from "../../didactor/static/js/lines.js";

test("the line that is due holds the place, and the first or last one beyond the ends", () => {
  const lines = [[0, 8], [8, 16], [16, 20]];
  assert.deepEqual([-1, 0, 7.9, 8, 15.99, 16, 19, 25].map((at) => lineAt(lines, at)), [0, 0, 0, 1, 1, 2, 2, 2]);
  assert.equal(lineAt([], 3), -1);
});
