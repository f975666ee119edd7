// A range of bars as it is typed: "5" or "5-12".

export function rangeOf(first, last) {
  return first === last ? first : `${first}-${last}`;
}
