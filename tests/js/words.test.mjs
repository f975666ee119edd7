import assert from "node:assert/strict";
import { afterEach, test } from "node:test";

import { counted, figure, worded } from "../../didactor/static/js/words.js";

afterEach(() => {
  delete globalThis.gettext;
  delete globalThis.ngettext;
  delete globalThis.document;
});

test("without messages it is English, with its values put in", () => {
  assert.equal(worded("at {tempo}", { tempo: 60 }), "at 60");
  assert.equal(worded("{title}: {tally} of {times}.", { title: "Slower", tally: 0, times: 3 }), "Slower: 0 of 3.");
  assert.equal(worded("Stopped."), "Stopped.");
  assert.equal(counted("{count} take", "{count} takes", 1), "1 take");
  assert.equal(counted("{count} take", "{count} takes", 0), "0 takes");
});

test("what is not known stays, and a value is never read as a pattern", () => {
  assert.equal(worded("at {tempo}"), "at {tempo}");
  assert.equal(worded("{a} {b}", { a: "{b}", b: "$&" }), "{b} $&");
});

test("messages that the page brought along are said", () => {
  globalThis.gettext = (text) => ({ "at {tempo}": "mit {tempo}" })[text] ?? text;
  globalThis.ngettext = (one, many, count) => (count === 1 ? "{count} Aufnahme" : "{count} Aufnahmen");
  assert.equal(worded("at {tempo}", { tempo: 60 }), "mit 60");
  assert.equal(worded("Stop"), "Stop");
  assert.equal(counted("{count} take", "{count} takes", 2), "2 Aufnahmen");
});

test("a number has the reader's point or comma", () => {
  assert.equal(figure(0.256, 2), "0.26");
  globalThis.document = { documentElement: { lang: "de" } };
  assert.equal(figure(12.5, 1), "12,5");
  globalThis.document = { documentElement: { lang: "en-gb" } };
  assert.equal(figure(12.5, 1), "12.5");
});
