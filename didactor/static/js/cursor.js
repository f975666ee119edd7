// Where on the engraved score the music is: a line that moves from note to note, and the page that follows it.

// Stops: { quarters, x, system }, ascending; systems: { left, right, top, bottom }. Between two stops of a system the line goes evenly,
// from the last one of a system to its end.
export function placeAt(stops, systems, quarters) {
  if (!stops.length) return null;
  let index = stops.findLastIndex((stop) => stop.quarters <= quarters + 1e-6);
  if (index < 0) index = 0;
  const here = stops[index];
  const next = stops[index + 1];
  const system = systems[here.system];
  let x = here.x;
  if (next && quarters > here.quarters) {
    const goal = next.system === here.system && next.x > here.x ? next.x : system.right;
    x += (goal - here.x) * Math.min(1, (quarters - here.quarters) / (next.quarters - here.quarters));
  }
  return { x, system: here.system, top: system.top, bottom: system.bottom };
}

export class Cursor {
  // bars: [number, pass, start, length, beat]; notes: [id, quarters].
  constructor(sheet, scroller, { bars, notes }) {
    Object.assign(this, { sheet, scroller, bars, notes, stops: [], systems: [], system: null });
    this.line = sheet.appendChild(document.createElement("div"));
    this.line.className = "now";
    this.line.hidden = true;
    new ResizeObserver(() => this.measure()).observe(sheet);
    this.measure();
  }

  measure() {
    const svg = [...this.sheet.querySelectorAll("svg.score")].find((e) => e.getBoundingClientRect().width > 0);
    this.stops = [];
    this.systems = [];
    if (!svg) return;
    const frame = this.sheet.getBoundingClientRect();
    const rects = new Map();
    for (const rect of svg.querySelectorAll("rect.bar")) {
      const box = rect.getBoundingClientRect();
      const top = box.top - frame.top;
      let system = this.systems.findIndex((s) => Math.abs(s.top - top) < 4);
      if (system < 0) system = this.systems.push({ top, bottom: top + box.height, left: box.left - frame.left, right: 0 }) - 1;
      this.systems[system].right = Math.max(this.systems[system].right, box.right - frame.left);
      if (!rects.has(rect.dataset.bar)) rects.set(rect.dataset.bar, { system, left: box.left - frame.left });
    }
    const heads = new Map();
    const headOf = (id) => {
      if (!heads.has(id)) {
        const note = svg.querySelector(`g.note[data-id="${CSS.escape(id)}"]`);
        const box = (note?.querySelector("g.notehead") ?? note)?.getBoundingClientRect();
        heads.set(id, box ? box.left + box.width / 2 - frame.left : null);
      }
      return heads.get(id);
    };
    for (const [number, , start, length] of this.bars) {
      const bar = rects.get(number);
      if (!bar) continue;
      const inside = this.notes.filter(([, at]) => at >= start - 1e-6 && at < start + length - 1e-6);
      const found = inside.map(([id, at]) => ({ quarters: at, x: headOf(id), system: bar.system })).filter((stop) => stop.x !== null);
      if (!found.some((stop) => stop.quarters < start + 1e-6)) found.unshift({ quarters: start, x: bar.left + 6, system: bar.system });
      // Of a chord the leftmost head counts.
      found.sort((a, b) => a.quarters - b.quarters || a.x - b.x);
      this.stops.push(...found.filter((stop, i) => !i || stop.quarters > found[i - 1].quarters + 1e-6));
    }
  }

  show(quarters) {
    const place = placeAt(this.stops, this.systems, quarters);
    this.line.hidden = !place;
    if (!place) return;
    this.line.style.height = `${place.bottom - place.top}px`;
    this.line.style.transform = `translate(${place.x.toFixed(2)}px, ${place.top}px)`;
    if (place.system !== this.system) {
      this.system = place.system;
      this.follow(place);
    }
  }

  // The system that is played stands in the upper part of the page, so that the next ones are in view.
  follow(place) {
    const top = this.sheet.getBoundingClientRect().top - this.scroller.getBoundingClientRect().top + this.scroller.scrollTop + place.top;
    const room = this.scroller.clientHeight;
    if (top < this.scroller.scrollTop + 8 || top + (place.bottom - place.top) > this.scroller.scrollTop + room * 0.7) {
      this.scroller.scrollTo({ top: Math.max(0, top - room * 0.12), behavior: matchMedia("(prefers-reduced-motion: reduce)").matches ? "auto" : "smooth" });
    }
  }

  hide() {
    this.line.hidden = true;
    this.system = null;
  }
}
