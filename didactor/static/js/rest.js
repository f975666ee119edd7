// Time played on this device today, counted over all pages: a caution in the first minute, and again after every twenty.

const KEY = "didactor played";
export const OFTEN_S = 20 * 60;
const FIRST_SHOWN_S = 60;

// What was counted today, in seconds; `now`: a date.
export function counted(kept, now) {
  const [day, seconds] = (kept ?? "").split("|");
  return day === now.toDateString() ? Number(seconds) || 0 : 0;
}

// The caution for having played so long: in the first minute, and for a minute after every twenty.
export function caution(seconds) {
  if (seconds < FIRST_SHOWN_S) return "first";
  return seconds >= OFTEN_S && seconds % OFTEN_S < FIRST_SHOWN_S ? "often" : "";
}

const line = globalThis.document?.querySelector("[data-caution]");

function show(seconds) {
  const kind = caution(seconds);
  const words = { first: line.dataset.first, often: `${Math.floor(seconds / 60)} ${line.dataset.often}`, "": "" }[kind];
  line.hidden = !words;
  if (line.textContent !== words) line.textContent = words;
}

if (line) {
  const read = () => counted(localStorage.getItem(KEY), new Date());
  show(read());
  setInterval(() => {
    if (!document.querySelector("[data-recorder][data-playing], [data-recorder][data-recording]")) return;
    const seconds = read() + 1;
    localStorage.setItem(KEY, `${new Date().toDateString()}|${seconds}`);
    show(seconds);
  }, 1000);
}
