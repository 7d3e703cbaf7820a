// A picture that stands still under a playhead: drawn when it changes, while the playhead is drawn when it
// has moved visibly. What is drawn with every frame takes time that the sound could need.
import { colour } from "./draw.js";

const MOVED_PX = 0.5, WIDE_PX = 1.5;

export class Still {
  constructor(canvas) {
    Object.assign(this, { canvas, front: canvas.getContext("2d"), back: document.createElement("canvas") });
    this.pen = this.back.getContext("2d");
    this.at = NaN;
  }

  // In pixels of the page; the pen draws in these, on all that the screen has.
  resize(width, height) {
    const ratio = devicePixelRatio || 1;
    for (const one of [this.canvas, this.back]) {
      if (one.width === Math.floor(width * ratio) && one.height === Math.floor(height * ratio)) continue;
      one.width = width * ratio;
      one.height = height * ratio;
    }
    this.pen.setTransform(ratio, 0, 0, ratio, 0, 0);
    this.ratio = ratio;
  }

  // The picture, and over it the playhead from `top` down; none left of `least`.
  show(at, { top = 0, least = 0 } = {}) {
    const { front, canvas, ratio } = this;
    if (!ratio || !canvas.width || !canvas.height) return;
    this.at = at;
    front.setTransform(1, 0, 0, 1, 0, 0);
    front.clearRect(0, 0, canvas.width, canvas.height);
    front.drawImage(this.back, 0, 0);
    front.setTransform(ratio, 0, 0, ratio, 0, 0);
    front.fillStyle = colour("trouble");
    if (at >= least) front.fillRect(at - WIDE_PX / 2, top, WIDE_PX, canvas.height / ratio - top);
  }

  follow(at, where) {
    if (!(Math.abs(at - this.at) < MOVED_PX)) this.show(at, where);
  }
}
