import assert from "node:assert/strict";
import { test } from "node:test";

import { copy } from "../../didactor/static/js/copy.js";

const field = () => ({ value: "https://didactor.example/x.ics", selected: 0, focus() {}, select() { this.selected += 1; } });

test("the whole address is copied, however little of it is seen", async () => {
  const written = [];
  assert.equal(await copy(field(), { writeText: async (text) => written.push(text) }), "Copied");
  assert.deepEqual(written, ["https://didactor.example/x.ics"]);
});

test("without a clipboard it is selected, to be copied by hand", async () => {
  for (const clipboard of [undefined, { writeText: () => Promise.reject(new Error("not allowed")) }]) {
    const address = field();
    assert.match(await copy(address, clipboard), /copy it now/);
    assert.equal(address.selected, 1);
  }
});
