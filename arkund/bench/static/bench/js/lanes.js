// Stacked waveform lanes with hits, bars and sections; zoom from the song to single samples.
import { getBytes } from "./api.js";
import { address, bench, here, loopFrames, on, query } from "./bench.js";
import { familyOf } from "./draw.js";
import { drawBars, drawLoop, drawNames, drawSections, drawHits, drawTiming, paints } from "./lane-drawing.js";
import { Hits } from "./lane-hits.js";
import { NAMES, TOP, View } from "./lane-view.js";
import { laneWaves } from "./lane-waves.js";
import { player } from "./player.js";
import { Still } from "./still.js";
import { visit } from "./visit.js";

const FOOT_PX = 68;
const HEAD = { top: TOP, least: NAMES };
const DRAG_PX = 4, GRIP_PX = 3;
const FEWEST_COLUMNS = 64;
const ASIDE = 0.25; // of the view, so much more is fetched on either side

const FOLLOWS = "arkund-follow";
const follows = () => sessionStorage.getItem(FOLLOWS) !== "no";

const pieceOf = (mic) => bench.pieces[mic] || "";

// A piece's lane; one without a mic of its own stands on the first overhead's.
function rowOf(piece) {
  const own = bench.mics.findIndex((mic) => pieceOf(mic) === piece);
  return own >= 0 ? own : bench.mics.findIndex((mic) => mic.startsWith("overhead"));
}

export function startLanes(onHit, act) {
  const lanes = new Lanes(document.getElementById("lanes"), onHit, act);
  lanes.start();
  return lanes;
}

class Lanes {
  // `onHit` is told which hits are chosen; `act` moves a hit and adds one.
  constructor(canvas, onHit, act) {
    const [start, stop] = loopFrames();
    Object.assign(this, { canvas, onHit, act });
    this.still = new Still(canvas);
    this.view = new View({ start, stop, frames: bench.frames, lanes: bench.mics.length });
    this.hits = new Hits(rowOf, bench.rate);
    this.waves = laneWaves();
    this.data = null;
    this.hold = {}; // what the pointer holds: a hit, a box, or the view itself
    this.times = []; // when it was painted
  }

  start() {
    this.followPointer();
    on("picture", (picture) => {
      this.hits.take(picture.hits || [], (picture.placement || []).find((p) => p.piece === bench.piece) || null);
      this.onHit(this.hits.chosen);
      this.paint();
      this.load();
    });
    on("loop", () => this.paint());
    on("playing", () => this.paint());
    document.getElementById("zoom-song").addEventListener("click", () => this.show(0, bench.frames));
    document.getElementById("zoom-loop").addEventListener("click", () => this.show(...loopFrames()));
    this.button = document.getElementById("follow-play");
    this.button.addEventListener("click", () => this.following(!follows()));
    this.following(follows());
    const mine = here();
    addEventListener("resize", () => { this.paint(); this.load(); }, { signal: mine });
    const follow = () => { if (mine.aborted) return; if (player.playing) this.follow(); requestAnimationFrame(follow); };
    follow();
    const asked = Number(new URLSearchParams(location.search).get("at"));
    const around = asked ? [(asked - 0.15) * bench.rate, (asked + 0.35) * bench.rate] : loopFrames();
    document.fonts.ready.then(() => { this.draw(); this.show(...around); });
    // For those who drive the page: where a hit's mark stands, and when it was painted.
    window.arkund.lanes = {
      view: this.view,
      show: (from, to) => this.show(from, to),
      frames: this.times,
      place: (mic, seconds) => ({ x: this.view.x(seconds * bench.rate), y: TOP + bench.mics.indexOf(mic) * this.view.laneHeight + 5 }),
    };
  }

  chosen() { return this.hits.chosen; }

  goTo(seconds, id) {
    const span = Math.min(this.view.span, 4 * bench.rate), at = seconds * bench.rate;
    this.show(at - span / 2, at + span / 2);
    this.choose(this.hits.all.find((h) => h.id === id) || null);
  }

  stepHit(direction) {
    const next = this.hits.next(bench.piece, direction, this.view);
    if (next) this.choose(next);
  }

  choose(hit) {
    this.chooseAll(hit ? [hit] : []);
    if (!hit) return;
    const at = hit.t * bench.rate, { start, stop, span } = this.view;
    if (at < start || at > stop) this.show(at - span / 2, at + span / 2);
  }

  chooseAll(some) {
    this.hits.chosen = some;
    this.onHit(some);
    this.paint();
  }

  show(start, stop) {
    this.view.show(start, stop);
    this.shown();
  }

  shown() {
    const { view } = this;
    const place = (frame) => (frame / bench.rate).toFixed(view.span < 4800 ? 4 : 2);
    document.getElementById("lanes-span").textContent = `${place(view.start)}–${place(view.stop)} s`;
    this.paint();
    this.load();
  }

  // One request at a time; the next one is for what is shown by then.
  async load() {
    if (this.loading) { this.again = true; return; }
    this.loading = true;
    do {
      this.again = false;
      const { view } = this;
      const columns = Math.round(Math.max(FEWEST_COLUMNS, Math.round(view.across)) * (1 + 2 * ASIDE));
      const start = Math.round(view.start - view.span * ASIDE), frames = Math.round(view.span * (1 + 2 * ASIDE));
      const text = query({ start, frames, columns, mics: bench.mics.join(",") });
      if (text === this.fetched) continue;
      try {
        const { bytes } = await getBytes(`${address("lanes/")}?${text}`);
        this.fetched = text;
        this.data = { columns, start, stop: start + frames, values: new Int16Array(bytes) };
        this.paint();
      } catch { /* the next move asks again */ }
    } while (this.again);
    this.loading = false;
  }

  paint() {
    if (this.painting) return;
    this.painting = true;
    requestAnimationFrame((now) => { this.painting = false; this.times.push(now); this.draw(); });
  }

  draw() {
    const { view, hits, still: { pen } } = this, paint = paints();
    this.fit();
    pen.clearRect(0, 0, view.width, view.height);
    drawSections(pen, view, paint);
    drawBars(pen, view, paint);
    drawLoop(pen, view, paint);
    drawNames(pen, view, paint);
    // What was fetched is drawn where it belongs, also while its successor is on the way.
    if (this.data) this.waves(pen, this.data, this.styles(paint), { x: NAMES, y: TOP, width: view.across, high: view.laneHeight }, (frame) => view.x(frame));
    drawHits(pen, view, hits, this.hold.dragged, paint);
    drawTiming(pen, view, hits, paint);
    const { box } = this.hold;
    if (box) {
      pen.strokeStyle = paint.ink;
      pen.strokeRect(Math.min(box.x0, box.x1), Math.min(box.y0, box.y1), Math.abs(box.x1 - box.x0), Math.abs(box.y1 - box.y0));
    }
    this.still.show(this.headAt(), HEAD);
  }

  // The page turns when the playhead leaves it. Who looks elsewhere meanwhile is left there.
  follow() {
    const at = player.position(), isSeen = this.view.has(at);
    if (this.wasSeen && !isSeen && follows() && !Object.keys(this.hold).length) {
      this.view.turnTo(at);
      this.shown();
    }
    this.wasSeen = this.view.has(at);
    this.still.follow(this.headAt(), HEAD);
  }

  following(on) {
    sessionStorage.setItem(FOLLOWS, on ? "yes" : "no");
    this.button.setAttribute("aria-pressed", String(on));
    this.button.textContent = on ? "follow on" : "follow off";
  }

  headAt() { return this.view.x(player.position()); }

  // The canvas as large as the page has room for, in the screen's own pixels.
  fit() {
    const { canvas, view } = this;
    view.resize(canvas.clientWidth, document.getElementById("work").clientHeight - FOOT_PX);
    this.still.resize(view.width, view.height);
    canvas.style.height = `${view.height}px`;
  }

  styles(paint) {
    return bench.mics.map((mic) => ({ hue: paint[familyOf(pieceOf(mic))], scale: 1 / 32768 / Math.max(bench.peaks[mic] || 1, 0.02) }));
  }

  followPointer() {
    const { canvas } = this;
    canvas.addEventListener("wheel", (event) => {
      event.preventDefault();
      const across = event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY);
      if (across) this.view.move(((event.deltaX || event.deltaY) / this.view.width) * this.view.span);
      else this.view.zoom(event.offsetX, 1.0015 ** event.deltaY);
      this.shown();
    }, { passive: false });
    canvas.addEventListener("pointerdown", (event) => {
      canvas.setPointerCapture(event.pointerId);
      this.take(event);
    });
    canvas.addEventListener("pointermove", (event) => this.carry(event));
    canvas.addEventListener("pointerup", (event) => this.drop(event));
    // A double click on a drum's lane says that it was struck there.
    canvas.addEventListener("dblclick", ({ offsetX, offsetY }) => {
      const piece = pieceOf(bench.mics[this.view.row(offsetY)]);
      const isFree = offsetX > NAMES && offsetY > TOP && !this.hits.at(this.view, offsetX, offsetY);
      if (piece && isFree) this.act.add(piece, this.view.frameAt(offsetX) / bench.rate);
    });
  }

  take({ offsetX, offsetY, shiftKey }) {
    const hit = this.hits.at(this.view, offsetX, offsetY);
    if (shiftKey) this.hold = { box: { x0: offsetX, y0: offsetY, x1: offsetX, y1: offsetY } };
    else if (hit) this.hold = { dragged: { hit, from: offsetX, at: offsetX, moved: false } };
    else this.hold = { grip: { x: offsetX, start: this.view.start, stop: this.view.stop, moved: false } };
  }

  carry({ offsetX, offsetY }) {
    const { box, dragged, grip } = this.hold;
    if (box) Object.assign(box, { x1: offsetX, y1: offsetY });
    if (dragged) {
      dragged.at = offsetX;
      dragged.moved ||= Math.abs(dragged.at - dragged.from) > DRAG_PX;
    }
    if (box || dragged?.moved) this.paint();
    if (!grip) return;
    grip.moved ||= Math.abs(grip.x - offsetX) > GRIP_PX;
    const by = ((grip.x - offsetX) / this.view.across) * (grip.stop - grip.start);
    if (grip.moved) this.show(grip.start + by, grip.stop + by);
  }

  drop({ offsetX, offsetY, altKey }) {
    const { box, dragged, grip } = this.hold;
    this.hold = {};
    if (box) this.chooseAll(this.hits.within(this.view, box));
    if (dragged?.moved) {
      // Alt leaves the grid's pull aside.
      const by = (this.view.frameAt(dragged.at) - this.view.frameAt(dragged.from)) / bench.rate;
      this.act.move(dragged.hit, dragged.hit.t + by, altKey);
    } else if (dragged) this.choose(dragged.hit);
    this.paint();
    if (!grip || grip.moved) return;
    const mic = offsetX < NAMES && bench.mics[this.view.row(offsetY)];
    if (mic) visit(`?mic=${mic}&bars=${bench.loop.join("-")}`);
    else if (offsetX >= NAMES) this.choose(null);
  }
}
