import assert from "node:assert/strict";
import { test } from "node:test";

globalThis.document = { querySelector: () => null, getElementById: () => null };
const { minutesLeft } = await import("../../didactor/static/js/filming.js");

test("the room that is left is told in minutes of film, and nothing where the browser does not tell", () => {
  assert.equal(minutesLeft({ quota: 210e6, usage: 10e6 }), 10);
  assert.equal(minutesLeft({ quota: 10e6, usage: 50e6 }), 0);
  assert.equal(minutesLeft({}), null);
  assert.equal(minutesLeft(undefined), null);
});
