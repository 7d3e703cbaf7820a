// What of the song the lanes show, and where on the canvas: frames across, mics down.
export const TIMING = 128; // height of the picture of early and late above the lanes
export const TOP = TIMING + 26;
export const NAMES = 78;

const FEWEST_FRAMES = 48, LOWEST_LANE = 16;
const LEAD = 0.05; // of a page that is turned to, so much lies before the playhead

export class View {
  // `frames` is the song's length, `lanes` how many there are.
  constructor({ start, stop, frames, lanes }) {
    Object.assign(this, { start, stop, frames, lanes, width: 0, height: 0 });
  }

  get span() { return this.stop - this.start; }

  get across() { return this.width - NAMES; }

  get laneHeight() { return (this.height - TOP) / this.lanes; }

  x(frame) { return NAMES + ((frame - this.start) / this.span) * this.across; }

  frameAt(px) { return this.start + ((px - NAMES) / this.across) * this.span; }

  // The lane at a height, and the middle of a lane.
  row(py) { return Math.floor((py - TOP) / this.laneHeight); }

  middle(row) { return TOP + (row + 0.5) * this.laneHeight; }

  // As tall as there is room for, but no lane lower than can be read.
  resize(width, room) {
    this.width = width;
    this.height = Math.max(this.lanes * LOWEST_LANE + TOP, room);
  }

  // Within the song, and no closer than single samples.
  show(start, stop) {
    const span = Math.min(Math.max(stop - start, FEWEST_FRAMES), this.frames);
    this.start = Math.min(Math.max(start, 0), this.frames - span);
    this.stop = this.start + span;
  }

  has(frame) { return frame >= this.start && frame <= this.stop; }

  // The page of the same length on which a frame lies near the left.
  turnTo(frame) { this.show(frame - this.span * LEAD, frame - this.span * LEAD + this.span); }

  move(by) { this.show(this.start + by, this.stop + by); }

  // The frame under `px` stays where it is.
  zoom(px, factor) {
    const at = this.frameAt(Math.max(px, NAMES));
    this.show(at - (at - this.start) * factor, at + (this.stop - at) * factor);
  }
}
