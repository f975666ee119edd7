import assert from "node:assert/strict";
import test from "node:test";

import { filled, nameOf } from "../../didactor/static/js/phrases.js";

test("a note's name is read from its id", () => {
  assert.equal(nameOf("n1-2-0-1-Fs5"), "F♯");
  assert.equal(nameOf("n1-2-0-1-Bb4"), "B♭");
  assert.equal(nameOf("n1-2-3_2-1-C-1"), "C");
  assert.equal(nameOf(""), "");
  assert.equal(nameOf(undefined), "");
});

test("places are put in, and what is not known is left to be filled in", () => {
  assert.equal(filled("Bar {bar}: {note} at {tempo} with finger {finger}", { bar: "6", note: "F♯", tempo: "72" }), "Bar 6: F♯ at 72 with finger …");
  assert.equal(filled("{bar} and {bar}, {other}", { bar: "3" }), "3 and 3, {other}");
});
