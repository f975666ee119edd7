// The next take lies ready under the one that is heard: its page whole, its sound here. It comes up when the answer is sent, and plays.
//
// The first page of a sitting holds the others in frames, one that is up and one below; each page, framed or not, asks it by events.

import { worded } from "./words.js";
const holder = window.parent.document;

// Whether the page under this one is the one to go on with is the server's to say: another take may have come in between.
export function goOn({ to, said, of }) {
  holder.dispatchEvent(new CustomEvent("desk:up", { detail: { to, said, of } }));
}

if (window.parent === window) {
  let up = null;
  let under = null;

  function lay(url) {
    under?.remove();
    under = Object.assign(document.createElement("iframe"), { className: "take-page", title: worded("The next take"), inert: true, src: url });
    document.body.append(under);
  }

  function bringUp(take) {
    const page = under?.contentDocument;
    const there = page?.readyState === "complete" && page.location.pathname === new URL(take.to, location).pathname;
    if (!there || !page.querySelector("[data-said]")) return location.assign(take.to);
    up?.remove();
    if (!up) rest(document.getElementById("main"));
    [up, under] = [under, null];
    Object.assign(up, { inert: false, title: page.title });
    up.classList.add("up");
    document.title = page.title;
    history.replaceState(null, "", take.to.split("?")[0]);
    up.contentWindow.focus();
    page.dispatchEvent(new CustomEvent("desk:shown", { detail: take }));
  }

  function rest(first) {
    document.querySelectorAll("audio, video").forEach((media) => media.pause());
    first.hidden = true;
    // What is pressed while nothing has the focus is meant for the take that is up.
    window.addEventListener("keydown", (event) => [event.stopImmediatePropagation(), up.contentWindow.focus()], { capture: true });
  }

  document.addEventListener("desk:lay", ({ detail }) => lay(detail));
  document.addEventListener("desk:up", ({ detail }) => bringUp(detail));
}

// This take's page has time to lay the next one a while after it is up.
const { nextPage } = document.querySelector(".desk-foot")?.dataset ?? {};
function layNext() {
  if (nextPage) setTimeout(() => holder.dispatchEvent(new CustomEvent("desk:lay", { detail: nextPage })), 1500);
}
if (holder === document) layNext();

document.addEventListener("desk:shown", ({ detail }) => {
  document.querySelector("[data-take-sound]")?.play().catch(() => {});
  const told = document.querySelector("[data-said]");
  told.querySelector("span").textContent = detail.said;
  told.querySelector("a").href = detail.of;
  told.hidden = false;
  layNext();
});
