// Places of a passage: where what is played of it lies, and which tempo each bar was clean at.

import { worded } from "./words.js";
// Where in the passage what is played is, after so many quarters of it.
export function placeOn(road, quarters) {
  let found = null;
  for (const stretch of road) if (stretch[0] <= quarters + 1e-6) found = stretch;
  if (!found) return road.length ? road[0][1] : null;
  return found[1] + Math.min(found[2], quarters - found[0]);
}

// Bars with the same clean tempo together, in the order of the score.
export function cleanInWords(tempi, order) {
  const rows = [];
  for (const number of new Set(order)) {
    const tempo = tempi.get(number);
    const open = rows.at(-1);
    if (tempo === undefined) rows.push(null);
    else if (open && open.tempo === tempo) open.to = number;
    else rows.push({ from: number, to: number, tempo });
  }
  return rows.filter(Boolean).map(({ from, to, tempo }) => (from === to ? worded("bar {from} at {tempo}", { from, tempo }) : worded("bars {from}–{to} at {tempo}", { from, to, tempo }))).join(", ");
}
