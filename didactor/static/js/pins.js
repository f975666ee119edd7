// The student's checklist: a touch on a bar of the score writes its number into the next free line.

function freeLine() {
  const list = document.querySelector("[data-pin-list]");
  const lines = [...list.querySelectorAll("[data-pin]")];
  const free = lines.find((line) => !line.querySelector("[name=pin-bar]").value);
  if (free) return free;
  const fresh = lines[lines.length - 1].cloneNode(true);
  fresh.querySelectorAll("input").forEach((input) => (input.value = ""));
  list.append(fresh);
  return fresh;
}

let from = null;
document.addEventListener("pointerdown", (event) => (from = event.target.closest("rect.bar")));
document.addEventListener("pointerup", (event) => {
  const rect = event.target.closest?.("rect.bar");
  if (!rect || rect !== from || !document.querySelector("[data-pins]")) return;
  const line = freeLine();
  line.querySelector("[name=pin-bar]").value = rect.dataset.bar;
  line.querySelector("[name=pin-text]").focus({ preventScroll: true });
});
