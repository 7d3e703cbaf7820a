// Bars of a song as spans, first and last bar each: typed, painted, moved and resized.

// "9-16, 20" as [[9, 16], [20, 20]]; what is no span is left out.
export function spansOf(text) {
  return text.replaceAll("–", "-").split(",").map((one) => one.trim().split("-").map(Number))
    .map(([first, last]) => [first, last ?? first])
    .filter(([first, last]) => first >= 1 && last >= first);
}

export const barsOf = (spans) => spans.map(([a, b]) => (a === b ? `${a}` : `${a}-${b}`)).join(", ");

// In order, with those that touch as one.
export function joined(spans) {
  const out = [];
  for (const [first, last] of [...spans].sort((a, b) => a[0] - b[0])) {
    const before = out.at(-1);
    if (before && first <= before[1] + 1) before[1] = Math.max(before[1], last);
    else out.push([first, last]);
  }
  return out;
}

// One span moved by bars, with its whole length, within a song of `bars`.
export function moved([first, last], by, bars) {
  const at = Math.max(1, Math.min(first + by, bars - (last - first)));
  return [at, at + last - first];
}

// One of its ends moved; a bar stays.
export function resized([first, last], end, by, bars) {
  if (end === "first") return [Math.max(1, Math.min(first + by, last)), last];
  return [first, Math.min(bars, Math.max(last + by, first))];
}

// The same place within every section of the same letter; `found` are sections with first and last bar.
export function whereAlike(spans, found) {
  const out = [];
  for (const [first, last] of spans) {
    const home = found.find((one) => first >= one.first && first <= one.last);
    const likes = home ? found.filter((one) => one.letter === home.letter) : [];
    for (const like of likes) {
      const at = like.first + first - home.first;
      if (at <= like.last) out.push([at, Math.min(at + last - first, like.last)]);
    }
    if (!likes.length) out.push([first, last]);
  }
  return joined(out);
}
