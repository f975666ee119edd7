// Where in a sound a place of the score is: of a rendered one evenly, of a teacher's own where it was played.

export const even = (quarterS) => ({ seconds: (quarters) => quarters * quarterS, quarters: (seconds) => seconds / quarterS });

// anchors: [quarters, seconds], both ascending, two at least; beyond them the pace next to them goes on.
export function along(anchors) {
  const between = (value, from, to) => {
    let index = anchors.findLastIndex((anchor) => anchor[from] <= value);
    index = Math.min(anchors.length - 2, Math.max(0, index));
    const [a, b] = [anchors[index], anchors[index + 1]];
    return a[to] + ((value - a[from]) / (b[from] - a[from])) * (b[to] - a[to]);
  };
  return { seconds: (quarters) => between(quarters, 0, 1), quarters: (seconds) => between(seconds, 1, 0) };
}
