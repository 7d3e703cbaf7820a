// Where bars lie: they begin where the server says; beyond the last one its length goes on.

// Seconds at which a bar, counted from 1, begins; `starts` are those of all bars and the song's end.
export function barStart(starts, bar) {
  const last = starts.length - 1;
  const n = Math.max(0, Math.min(Math.floor(bar) - 1, last - 1));
  return starts[n] + (bar - 1 - n) * (starts[n + 1] - starts[n]);
}

// The bar, with its fraction, that plays at a second.
export function barAt(starts, seconds) {
  let n = 0;
  while (n < starts.length - 2 && starts[n + 1] <= seconds + 1e-9) n += 1;
  return n + 1 + (seconds - starts[n]) / (starts[n + 1] - starts[n]);
}
