// The hits on the lanes, in order of time: which are seen, which lies where, which are chosen.
import { NAMES, TIMING } from "./lane-view.js";

const SPANS_MS = [10, 20, 40];
const NEAR_PX = 9, ROOM_PX = 8;
const MOST_OUTSIDE = 0.03; // of all hits, so many may be farther off than the span shows

export class Hits {
  // `rowOf` gives a piece's lane, `rate` the samples of a second.
  constructor(rowOf, rate) {
    Object.assign(this, { rowOf, rate, all: [], chosen: [], most: SPANS_MS[0], feel: null });
  }

  // The list anew: moved and corrected hits may have passed each other. What was chosen stays so.
  take(hits, feel) {
    this.all = [...hits].sort((p, q) => p.t - q.t);
    this.feel = feel;
    const far = this.all.map((h) => Math.max(Math.abs(h.late_ms), Math.abs(h.late_ms - (h.moved_ms || 0)))).sort((p, q) => p - q);
    const most = far[Math.floor(far.length * (1 - MOST_OUTSIDE))] || 0;
    this.most = SPANS_MS.find((ms) => ms >= most) || SPANS_MS.at(-1);
    this.chosen = this.all.filter((h) => this.chosen.some((c) => c.id === h.id));
  }

  // Those in view, and a little before it, found by halving.
  inView(view) {
    const first = (view.start - view.span * 0.01) / this.rate, last = view.stop / this.rate;
    let low = 0, high = this.all.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (this.all[middle].t < first) low = middle + 1; else high = middle;
    }
    let end = low;
    while (end < this.all.length && this.all[end].t <= last) end += 1;
    return this.all.slice(low, end);
  }

  // The mark at a place: among the lanes that of its own row, above them any.
  at(view, px, py) {
    if (px < NAMES) return null;
    const row = view.row(py);
    const near = this.all.filter((h) => py < TIMING || Math.abs(this.rowOf(h.piece) - row) < 1)
      .map((h) => [Math.abs(view.x(h.t * this.rate) - px), h]).sort((p, q) => p[0] - q[0])[0];
    return near && near[0] < NEAR_PX ? near[1] : null;
  }

  // Those inside a box that was drawn.
  within(view, { x0, y0, x1, y1 }) {
    const [left, right] = [Math.min(x0, x1), Math.max(x0, x1)];
    const [upper, lower] = [Math.min(y0, y1), Math.max(y0, y1)];
    return this.all.filter((hit) => {
      const at = view.x(hit.t * this.rate), y = view.middle(this.rowOf(hit.piece));
      return at >= left && at <= right && (upper < TIMING || (y >= upper - ROOM_PX && y <= lower + ROOM_PX));
    });
  }

  // The next one of a piece, forward (1) or back (−1), from what is chosen or where the view begins.
  next(piece, direction, view) {
    const own = this.all.filter((h) => h.piece === piece);
    const at = this.chosen.length ? this.chosen[0].t : view.start / this.rate;
    return direction > 0 ? own.find((h) => h.t > at + 1e-6) : own.filter((h) => h.t < at - 1e-6).at(-1);
  }
}
