import assert from "node:assert/strict";
import { test } from "node:test";

import { told } from "../../didactor/static/js/answered.js";
import { done, notReached, refused } from "../../didactor/static/js/not_done.js";

function place() {
  const line = { textContent: "", hidden: true };
  return { line, querySelector: () => line };
}
const element = (trigger) => ({ getAttribute: (name) => (name === "hx-trigger" ? trigger : null) });
const answered = (status, text, kind = "text/plain; charset=utf-8") => ({ status, responseText: text, getResponseHeader: () => kind });
const touched = [element(null), element("input delay:800ms, change delay:200ms")];
const byItself = [element("load"), element("load delay:1s, every 30s"), element("every 2s")];

test("a refusal is said in the server's words", async () => {
  for (const elt of touched)
    for (const status of [401, 403, 404, 500, 503]) {
      const root = place();
      await refused({ elt, xhr: answered(status, "You are signed out.") }, root);
      assert.deepEqual(root.line, { textContent: "You are signed out.", hidden: false });
    }
});

test("the page of a proxy is not shown as words", async () => {
  const root = place();
  await refused({ elt: touched[0], xhr: answered(502, "<html>Bad gateway</html>", "text/html") }, root);
  assert.match(root.line.textContent, /something went wrong on the way/);
});

test("what asks by itself is silent while it can ask again, not when it is signed out", async () => {
  for (const elt of byItself) {
    const root = place();
    await refused({ elt, xhr: answered(503, "Try again.") }, root);
    notReached({ elt }, root);
    assert.equal(root.line.hidden, true);
    await refused({ elt, xhr: answered(401, "You are signed out.") }, root);
    assert.equal(root.line.textContent, "You are signed out.");
  }
});

test("no connection is said, and taken away by what is done after it", () => {
  const root = place();
  notReached({ elt: touched[0] }, root);
  assert.match(root.line.textContent, /There is no connection: this was not done/);
  done({ elt: byItself[0], successful: true }, root);
  done({ elt: touched[0], successful: false }, root);
  assert.equal(root.line.hidden, false);
  done({ elt: touched[0], successful: true }, root);
  assert.deepEqual(root.line, { textContent: "", hidden: true });
});

test("an answer is JSON, or the words of a refusal", async () => {
  const answer = (body, kind) => new Response(body, { headers: { "Content-Type": kind } });
  assert.deepEqual(await told(answer('{"cents": 3}', "application/json")), { cents: 3 });
  assert.deepEqual(await told(answer("Signed out.", "text/plain; charset=utf-8")), { says: "Signed out." });
  assert.match((await told(answer("<h1>502</h1>", "text/html"))).says, /on the way/);
});
