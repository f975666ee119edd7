// Pedals are keyboards that know a few keys. acts(): what each key does now, by its name.
export function pedals(acts) {
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input, select, textarea, summary")) return;
    if (event.target.closest("button, a") && [" ", "Enter"].includes(event.key)) return;
    const act = acts()[event.key];
    if (!act) return;
    event.preventDefault();
    act();
  });
}
