import assert from "node:assert/strict";
import { test } from "node:test";

const { since } = await import("../../didactor/static/js/touching.js");

test("touches count from the first name's beat; one shortly before it belongs to it, one in the count-off to nothing", () => {
  assert.equal(since(12.5, 10, 1), 2.5);
  assert.equal(since(9.7, 10, 1), 0);
  assert.equal(since(9.4, 10, 1), null);
});
