// The answer on the desk: no word of it is lost, and it is sent without leaving the page.

import { inWords, saysOf } from "./answered.js";
import { goOn } from "./next_take.js";
import { worded } from "./words.js";

const answer = document.querySelector("form[data-answer]");

// The last words typed survive a page that is closed before the draft was kept.
let unkept = false;
answer?.addEventListener("input", () => (unkept = true));
document.body.addEventListener("htmx:afterRequest", (event) => {
  if (event.target === answer && event.detail.successful) unkept = false;
});
window.addEventListener("pagehide", () => {
  if (answer && unkept) navigator.sendBeacon(answer.dataset.answer, new FormData(answer));
});

// Sent without leaving the page: it is left only when the answer is with the server, and the next take lies ready under it.
let sending = false;
let asPage = false;
function stays(words) {
  sending = false;
  document.getElementById("draft-state").textContent = words;
}
async function send(event) {
  if (asPage) return;
  event.preventDefault();
  if (sending) return;
  sending = true;
  const body = new FormData(answer, event.submitter);
  body.append("laid", "1");
  try {
    const told = await fetch(answer.action, { method: "POST", body });
    if (inWords(told) || told.status >= 500) return stays(await saysOf(told));
    unkept = false;
    if (told.headers.get("Content-Type") !== "application/json") return sendAsPage(event.submitter);
    goOn(await told.json());
  } catch {
    stays(worded("No connection: it is not sent. What you wrote stays here; send it again."));
  }
}
answer?.addEventListener("submit", send);

// It was refused: the page that says so.
function sendAsPage(submitter) {
  asPage = true;
  answer.requestSubmit(submitter);
}
