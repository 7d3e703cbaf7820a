// Sections on the strip.

// Sections with the end of the one at `n` dragged to `bar`, in a song of `bars`. The one after it, if
// they touch, begins where it ends; both keep a bar at least.
export function withBorder(sections, n, bar, bars) {
  const own = sections[n], after = sections[n + 1];
  const touches = after && after.start_bar === own.start_bar + own.bars;
  const last = touches ? after.start_bar + after.bars - 1 : bars + 1;
  const at = Math.max(own.start_bar + 1, Math.min(bar, last));
  return sections.map((s, m) => {
    if (m === n) return { ...s, bars: at - s.start_bar };
    return touches && m === n + 1 ? { ...s, start_bar: at, bars: s.bars + s.start_bar - at } : s;
  });
}
