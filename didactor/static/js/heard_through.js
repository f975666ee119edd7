// Whether a take was played back to its end: nearly all of it has to have sounded. And the same place in the take before.

const NEARLY = 0.92;

// Seconds that were played of a media element.
export function playedS(ranges) {
  let sum = 0;
  for (let k = 0; k < ranges.length; k += 1) sum += ranges.end(k) - ranges.start(k);
  return sum;
}

async function tell(box) {
  const address = box.dataset.through;
  if (!address) return;
  delete box.dataset.through;
  const headers = { "X-CSRFToken": JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"] };
  const answer = await fetch(address, { method: "POST", headers }).catch(() => null);
  if (!answer?.ok) return void (box.dataset.through = address);
  document.querySelector("[data-after-the-end]")?.removeAttribute("data-after-the-end");
  document.querySelector("[data-until-the-end]")?.remove();
}

if (typeof document !== "undefined") {
  // Media events do not bubble, but they are captured on their way down.
  for (const kind of ["pause", "ended", "timeupdate"]) {
    document.addEventListener(
      kind,
      (event) => {
        const box = event.target.closest?.("[data-through]");
        if (!box || !event.target.closest("[data-player]")) return;
        if (event.target.duration && playedS(event.target.played) >= NEARLY * event.target.duration) tell(box);
      },
      true,
    );
  }
  document.addEventListener("submit", (event) => {
    if (!event.submitter?.matches("[data-after-the-end]")) return;
    event.preventDefault();
    document.querySelector("[data-until-the-end]").classList.add("look-again");
  });
  document.addEventListener("click", (event) => {
    const place = event.target.closest("[data-before]");
    const sound = document.querySelector("[data-before-sound]");
    if (!place || !sound) return;
    document.querySelector("[data-take-sound]")?.pause();
    const delay = Number(sound.dataset.delay);
    sound.currentTime = Math.max(0, Number(place.dataset.before) + delay - 0.2);
    const until = Number(place.dataset.until) + delay + 0.2;
    sound.ontimeupdate = () => sound.currentTime >= until && sound.pause();
    sound.play();
  });
}
