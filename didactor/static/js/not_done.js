// What a touch did not do is said: where the server refuses, or nobody answers, htmx by itself is silent.

import { saysOf } from "./answered.js";
import { worded } from "./words.js";

// What a page asks by itself it asks again by itself.
const byItself = (element) => /\b(load|every)\b/.test(element.getAttribute?.("hx-trigger") ?? "");

export function show(words, root = document) {
  const line = root.querySelector("[data-not-done]");
  line.textContent = words;
  line.hidden = !words;
}

export async function refused({ elt, xhr }, root = document) {
  if (byItself(elt) && xhr.status >= 500) return;
  show(await saysOf(new Response(xhr.responseText, { headers: { "Content-Type": xhr.getResponseHeader("Content-Type") ?? "" } })), root);
}

export function notReached({ elt }, root = document) {
  if (!byItself(elt)) show(worded("There is no connection: this was not done. Do it again when there is one."), root);
}

export function done({ elt, successful }, root = document) {
  if (successful && !byItself(elt)) show("", root);
}

if (typeof document !== "undefined") {
  document.addEventListener("htmx:responseError", (event) => refused(event.detail));
  document.addEventListener("htmx:sendError", (event) => notReached(event.detail));
  document.addEventListener("htmx:afterRequest", (event) => done(event.detail));
}
