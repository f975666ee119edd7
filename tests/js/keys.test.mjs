import assert from "node:assert/strict";
import test from "node:test";

import { actionOf, withKey } from "../../didactor/static/js/keys.js";

const ACTIONS = [" ", "b", "k", "d"];

test("a key means what it comes with until it is chosen otherwise", () => {
  assert.equal(actionOf("k", {}), "k");
  assert.equal(actionOf("K", {}), "k");
  assert.equal(actionOf("j", { k: "j" }), "k");
  assert.equal(actionOf("k", { k: "j" }), null, "it has moved away from here");
});

test("two actions never share a key: they change places", () => {
  const map = withKey({}, "k", "d", ACTIONS);
  assert.deepEqual(map, { k: "d", d: "k" });
  assert.equal(actionOf("d", map), "k");
  assert.equal(actionOf("k", map), "d");
  assert.deepEqual(withKey(map, "k", "k", ACTIONS), {}, "and back again");
});

test("a key that nothing had is simply taken", () => {
  assert.deepEqual(withKey({ b: "z" }, "k", "ArrowUp", ACTIONS), { b: "z", k: "ArrowUp" });
});
