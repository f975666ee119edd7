// Cuts for practising: a strip of bars with a handle between each two; a handle is pressed, or a cut is dragged to another bar line.

const form = document.querySelector("[data-cuts]");

function start() {
  const strip = form.querySelector("[data-strip]");
  const field = form.querySelector("[name=segments]");
  const cells = [...strip.querySelectorAll(".cell")].map((cell) => cell.dataset.bar);
  const cuts = [...strip.querySelectorAll(".cut")];

  const set = (cut, on) => {
    cut.classList.toggle("on", on);
    cut.setAttribute("aria-pressed", String(on));
  };
  const write = () => {
    const segments = [];
    let first = 0;
    cells.forEach((bar, index) => {
      if (index < cells.length - 1 && !cuts[index].classList.contains("on")) return;
      segments.push(first === index ? bar : `${cells[first]}-${bar}`);
      first = index + 1;
    });
    field.value = segments.length > 1 ? segments.join(" ") : "";
  };
  const read = (text) => {
    const ends = new Set(text.replaceAll("–", "-").split(/[\s,]+/).map((segment) => segment.split("-").pop()));
    cuts.forEach((cut) => set(cut, ends.has(cut.dataset.after)));
  };

  let held = null;
  let moved = false;
  strip.addEventListener("pointerdown", (event) => {
    held = event.target.closest(".cut");
    moved = false;
  });
  strip.addEventListener("pointermove", (event) => {
    if (!held?.classList.contains("on")) return;
    const under = document.elementFromPoint(event.clientX, event.clientY)?.closest(".cut");
    if (!under || under === held || under.classList.contains("on")) return;
    set(held, false);
    set(under, true);
    held = under;
    moved = true;
    write();
  });
  window.addEventListener("pointerup", () => (held = null));
  strip.addEventListener("click", (event) => {
    const cut = event.target.closest(".cut");
    if (!cut || moved) return void (moved = false);
    set(cut, !cut.classList.contains("on"));
    write();
  });
  // The arrow keys carry a cut along.
  strip.addEventListener("keydown", (event) => {
    const step = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    const at = cuts.indexOf(event.target);
    const next = cuts[at + step];
    if (!step || at < 0 || !next) return;
    event.preventDefault();
    if (cuts[at].classList.contains("on") && !next.classList.contains("on")) {
      set(cuts[at], false);
      set(next, true);
      write();
    }
    next.focus();
  });
  form.addEventListener("click", (event) => {
    const proposal = event.target.closest("[data-proposal]")?.dataset.proposal;
    if (!proposal) return;
    field.value = proposal;
    read(proposal);
  });
  field.addEventListener("input", () => read(field.value));
}

if (form) start();
