// Words and chords that move with the pulse: the line that is due is marked, and the page follows it.

// The line in which a place of the score lies; the last one after the end.
export function lineAt(lines, quarters) {
  const index = lines.findIndex(([from, to]) => quarters >= from - 1e-6 && quarters < to - 1e-6);
  return index >= 0 || !lines.length ? index : quarters < lines[0][0] ? 0 : lines.length - 1;
}

export class Lines {
  constructor(song, scroller) {
    this.scroller = scroller;
    this.rows = [...song.querySelectorAll("[data-from]")];
    this.spans = this.rows.map((row) => [Number(row.dataset.from), Number(row.dataset.to)]);
    this.index = -1;
  }

  show(quarters) {
    const index = lineAt(this.spans, quarters);
    if (index === this.index) return;
    this.index = index;
    this.rows.forEach((row, k) => row.classList.toggle("due", k === index));
    const row = this.rows[index];
    if (!row) return;
    const top = row.getBoundingClientRect().top - this.scroller.getBoundingClientRect().top + this.scroller.scrollTop;
    const calm = matchMedia("(prefers-reduced-motion: reduce)").matches;
    this.scroller.scrollTo({ top: Math.max(0, top - this.scroller.clientHeight * 0.3), behavior: calm ? "auto" : "smooth" });
  }

  hide() {
    this.rows[this.index]?.classList.remove("due");
    this.index = -1;
  }
}
