import assert from "node:assert/strict";
import { test } from "node:test";

globalThis.document = { querySelector: () => null };
const { nearest } = await import("../../didactor/static/js/find_out.js");
const { places } = await import("../../didactor/static/js/beside.js").catch(() => ({}));

test("a touch means the nearest note within a finger's width, and nothing further off", () => {
  const heads = [["a", 100, 50], ["b", 120, 50], ["c", 300, 90]];
  assert.equal(nearest(heads, 112, 55), "b");
  assert.equal(nearest(heads, 104, 70), "a");
  assert.equal(nearest(heads, 300, 120), null);
  assert.equal(nearest(heads, 300, 115), "c");
  assert.equal(nearest([], 0, 0), null);
});

test("two takes sound one after the other, and a bar that one lacks in the other alone", () => {
  const buttons = [{ dataset: { first: "1.0 2.0", second: "1.5 2.6" } }, { dataset: { second: "2.6 3.0" } }];
  assert.deepEqual(places(buttons), [[0, 1, 2], [1, 1.5, 2.6], [1, 2.6, 3]]);
});
