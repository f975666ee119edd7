// A phrase out of the bank, with the place of this remark put into it; what is not known is left to be filled in.

// “F♯” out of a note's id, which ends in its name: …-Fs5.
export function nameOf(noteId) {
  const [, step, accidental] = /-([A-G])(s{1,2}|b{1,2})?-?\d+$/.exec(noteId ?? "") ?? [];
  return step ? step + ({ s: "♯", b: "♭", ss: "𝄪", bb: "𝄫" }[accidental] ?? "") : "";
}

export const filled = (phrase, places) => phrase.replace(/\{(bar|note|tempo|finger)\}/g, (_, name) => places[name] || "…");
