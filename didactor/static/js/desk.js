// The teacher's desk: a touch on a bar or a note pins the next remark there; keys move through marks.

const fields = (name) => document.querySelector(`[data-remark] [name="${name}"]`);

function pin(bar, noteId) {
  if (!fields("bar")) return;
  fields("bar").value = bar;
  fields("note_id").value = noteId;
  document.querySelector("[data-pinned]").textContent = noteId ? "pinned to the note" : "";
  document.querySelectorAll("rect.bar").forEach((rect) => rect.classList.toggle("pinned", rect.dataset.bar === bar));
}

let from = null;
document.addEventListener("pointerdown", (event) => (from = event.target.closest("rect.bar")));
document.addEventListener("pointerup", (event) => {
  const rect = event.target.closest?.("rect.bar");
  if (rect && rect === from) pin(rect.dataset.bar, "");
});
document.addEventListener("click", (event) => {
  const note = event.target.closest("svg.score g.note[data-id]");
  if (!note) return;
  const measure = note.closest('g[data-class="measure"]');
  const rects = [...note.closest("svg.score").querySelectorAll("rect.bar")];
  const frame = measure.getBoundingClientRect();
  const middle = frame.left + frame.width / 2;
  const own = rects.find((rect) => {
    const box = rect.getBoundingClientRect();
    return box.left <= middle && middle <= box.right && box.top <= frame.bottom && frame.top <= box.bottom;
  });
  if (own) pin(own.dataset.bar, note.dataset.id);
});

// A phrase out of the bank: its category is chosen with it, and the bar that is pinned stands in it.
document.addEventListener("input", (event) => {
  if (!event.target.matches('[data-remark] [name="text"]')) return;
  const phrase = [...document.querySelectorAll("#phrases option")].find((option) => option.value === event.target.value);
  if (!phrase) return;
  fields("category").value = phrase.dataset.category;
  event.target.value = phrase.value.replaceAll("{bar}", fields("bar").value || "…");
});

// The moment that is playing, in seconds of the recording: where no notes are written, remarks are pinned by time.
document.addEventListener("click", (event) => {
  if (!event.target.closest("[data-this-moment]")) return;
  const { delay } = JSON.parse(document.getElementById("player-data").textContent);
  const audio = document.querySelector("[data-player] audio");
  fields("at_s").value = Math.max(0, audio.currentTime - delay).toFixed(1);
});

// What is proposed as the next step is taken over into the fields; nothing is sent by it.
function accept() {
  const proposal = document.querySelector("[data-proposal]");
  if (!proposal) return;
  const form = document.getElementById("answer");
  for (const [name, value] of Object.entries(JSON.parse(proposal.dataset.proposal))) {
    if (name === "decision") form.querySelector(`[name="decision"][value="${value}"]`).checked = true;
    else form.elements[name].value = value;
  }
  form.dispatchEvent(new Event("change", { bubbles: true }));
  form.dispatchEvent(new Event("input", { bubbles: true }));
}
document.querySelector("[data-accept]")?.addEventListener("click", accept);

// Rows about which nothing was said yet get what the figures say, where they can know.
function asHeard() {
  const checklist = document.getElementById("checklist");
  for (const row of checklist?.querySelectorAll('[role="group"]') ?? []) {
    const heard = row.querySelector("label.heard input");
    if (heard && !row.querySelector("input:checked")) heard.checked = true;
  }
  checklist?.dispatchEvent(new Event("change", { bubbles: true }));
}
document.querySelector("[data-as-heard]")?.addEventListener("click", asHeard);

// K keeps and D drops the first open proposal; R goes to the remark, A takes over the next step that is proposed, C the checklist as it was heard, S sends, ? tells them all.
document.addEventListener("keydown", (event) => {
  if (event.target.closest("input, textarea, select") || event.ctrlKey || event.metaKey || event.altKey) return;
  const open = document.querySelector(".marks li.proposed");
  const button = { k: open?.querySelector('button[value="kept"]'), d: open?.querySelector('button[value="dropped"]') }[event.key];
  if (button) {
    event.preventDefault();
    button.click();
  } else if (event.key === "a") {
    event.preventDefault();
    accept();
  } else if (event.key === "c") {
    event.preventDefault();
    asHeard();
  } else if (event.key === "s" && answer) {
    event.preventDefault();
    answer.requestSubmit(answer.querySelector('button[name="next"]'));
  } else if (event.key === "?") {
    event.preventDefault();
    document.querySelector("[data-keys] summary").click();
  } else if (event.key === "r" && fields("text")) {
    event.preventDefault();
    fields("text").focus();
  }
});

// The last words typed survive a page that is closed before the draft was kept.
const answer = document.querySelector("form[data-answer]");
let unkept = false;
answer?.addEventListener("input", () => (unkept = true));
answer?.addEventListener("submit", () => (unkept = false));
document.body.addEventListener("htmx:afterRequest", (event) => {
  if (event.target === answer && event.detail.successful) unkept = false;
});
window.addEventListener("pagehide", () => {
  if (answer && unkept) navigator.sendBeacon(answer.dataset.answer, new FormData(answer));
});
