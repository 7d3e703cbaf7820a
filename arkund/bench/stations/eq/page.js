// Shape, EQ: ink area of the hits, bleed behind, the ribbon of what is added or taken, and the bands as nodes
// on the curve.
import { drawChain, startChain } from "../../js/chain.js";
import { bench, here, keepTry, keepValues, on, tryValues, valueAt } from "../../js/bench.js";
import { clear, el, familyOf, levels, path } from "../../js/draw.js";
import { startMasking } from "./masking.js";
import { startNet } from "./net.js";
import { startSweep } from "./sweep.js";
import { again, visit } from "../../js/visit.js";

const LOW = 25, HIGH = 18000, TOP_DB = 14, FLOOR_DB = -62;
const LINES = [30, 50, 100, 200, 300, 500, 1000, 2000, 3000, 5000, 10000];
const LEFT = 36, FLAGS = 60, FOOT = 52; // room for levels, for what is said above, for landmarks below
const LEAST = 250, MOST = 760;
const DRAGGED_PX = 3, SOON_MS = 900;
// What an arrow key moves, and by how much less with Shift; what a step of the wheel does to the width.
const STEP = { octaves: 1 / 24, gain: 0.5, width: 1.1 }, FINE = 0.2;

// The band whose rulers stand beside.
const inHand = () => document.querySelector("[data-link*='band='][aria-pressed=true]")?.dataset.link.split("band=")[1];

export function start() {
  startChain();
  const svg = document.getElementById("spectrum");
  // A band that begins to move, or moves with something else, has other rulers.
  const held = document.querySelector("[data-drop*='.bands.']")?.dataset.drop;
  const way = (sheet) => { const b = held && valueAt(sheet, held); return b ? `${b.on && b.range_db !== 0} ${b.hears} ${b.kind}` : ""; };
  const was = way(bench.sheet);
  on("kept", (sheet) => { if (sheet && way(sheet) !== was) again(); });
  on("picture", (p) => drawChain(p.chain));
  if (svg) {
    const curve = new Curve(svg);
    curve.start();
    startSweep(curve);
  }
  startMasking();
  startNet();
}

// A boost that drives the sound over full scale, with what would take it back.
function sayOver(over) {
  const line = document.getElementById("over"), [said, trim] = line.children;
  line.hidden = !over;
  if (!over) return;
  said.textContent = over.said;
  trim.textContent = over.words;
  trim.onclick = () => keepValues(over.patch);
}

class Curve {
  constructor(svg) {
    this.svg = svg;
    this.nodes = [];
    this.later = 0;
  }

  start() {
    on("picture", (p) => {
      if (!p.hz) return;
      this.picture = p;
      this.draw();
      document.getElementById("moved").textContent = p.moved.join(" ");
      sayOver(p.over);
    });
    addEventListener("resize", () => this.draw(), { signal: here() });
    this.svg.addEventListener("dblclick", (event) => this.add(event));
  }

  // The picture fits its window, and its type stays one size.
  size() {
    const box = this.svg.getBoundingClientRect();
    const strip = document.querySelector(".strip").getBoundingClientRect().top;
    this.width = Math.max(box.width, 300);
    this.height = Math.min(Math.max(strip - box.top - 110, LEAST), MOST);
    this.floor = this.height - FOOT;
    this.svg.setAttribute("viewBox", `0 0 ${this.width} ${this.height}`);
    this.svg.style.height = `${this.height}px`;
  }

  x(hz) { return LEFT + (Math.log(hz / LOW) / Math.log(HIGH / LOW)) * (this.width - LEFT - 8); }
  hzAt(px) { return LOW * (HIGH / LOW) ** ((px - LEFT) / (this.width - LEFT - 8)); }
  y(db) { return FLAGS + ((TOP_DB - Math.max(Math.min(db, TOP_DB), FLOOR_DB)) / (TOP_DB - FLOOR_DB)) * (this.floor - FLAGS); }
  get dbAPixel() { return (TOP_DB - FLOOR_DB) / (this.floor - FLAGS); }

  draw() {
    const { svg, picture: p } = this;
    if (!p) return;
    const focused = document.activeElement?.dataset?.node || this.wanted;
    this.size();
    clear(svg);
    levels(svg, (db) => this.y(db), [0, -12, -24, -36, -48, -60], LEFT, this.width - 8);
    for (const hz of LINES) {
      el(svg, "line", { class: "gridline", x1: this.x(hz), x2: this.x(hz), y1: FLAGS, y2: this.floor });
      el(svg, "text", { x: this.x(hz), y: this.floor + 12, "text-anchor": "middle" }, hz >= 1000 ? `${hz / 1000}k` : hz);
    }
    const points = (values) => values.map((v, i) => [this.x(p.hz[i]), this.y(v)]);
    const close = `L${this.x(p.hz.at(-1))} ${this.floor}L${this.x(p.hz[0])} ${this.floor}z`;
    el(svg, "path", { class: "under", d: path(points(p.before)) + close });
    el(svg, "path", { class: "bleed-line", d: path(points(p.bleed)) });
    this.ribbon(points(p.before), points(p.after), p.gain);
    // How far bands that move could go beyond what the hits get.
    if (p.reach) el(svg, "path", { class: "reaches", d: path(points(p.after)) + path(points(p.reach).reverse()).replace("M", "L") + "z" });
    el(svg, "path", { class: `line ${familyOf(bench.piece)}`, d: path(points(p.after)) });
    p.landmarks.forEach((l, i) => {
      const at = this.x(l.hz), low = this.floor + 18 + i * 10;
      el(svg, "line", { class: "bleed-line", x1: at, x2: at, y1: this.floor, y2: low });
      el(svg, "text", { class: "strong", x: Math.min(at + 3, this.width - 150), y: low + 6 }, `${l.name} ${l.hz.toFixed(0)} Hz · ${l.note}`);
    });
    p.flags.forEach((flag, i) => this.flag(flag, i));
    if (p.invites) el(svg, "text", { class: "strong", x: this.width / 2, y: FLAGS - 8, "text-anchor": "middle" }, p.invites);
    this.nodes = p.nodes.map((node) => this.node(node));
    this.wanted = "";
    if (focused) svg.querySelector(`[data-node="${CSS.escape(focused)}"]`)?.focus({ preventScroll: true });
  }

  // What the EQ adds lies in green over the hits, what it takes in oxide under them.
  ribbon(before, after, gain) {
    let run = [];
    const close = () => {
      if (run.length > 1) {
        const adds = gain[run[Math.floor(run.length / 2)]] > 0;
        const d = path(run.map((i) => before[i])) + path(run.map((i) => after[i]).reverse()).replace("M", "L");
        el(this.svg, "path", { class: adds ? "adds" : "takes", d: `${d}z` });
      }
      run = [];
    };
    gain.forEach((g, i) => {
      if (run.length && Math.sign(g) !== Math.sign(gain[run[0]])) close();
      if (Math.abs(g) > 0.05) run.push(i); else close();
    });
    close();
  }

  flag(flag, i) {
    const { svg } = this, px = this.x(Math.min(Math.max(flag.hz, LOW), HIGH)), py = 10 + (i % 4) * 14;
    el(svg, "line", { class: "stem", x1: px, x2: px, y1: py + 5, y2: this.floor });
    const width = flag.text.length * 6.1 + 10;
    const left = px + width > this.width - 6 ? px - width : px;
    el(svg, "rect", { class: "flag", x: left, y: py - 7, width, height: 13, rx: 1 });
    el(svg, "text", { class: "strong", x: left + 5, y: py + 3 }, flag.text);
  }

  // The level that is heard at a frequency, on the drawn curve.
  levelAt(hz) {
    const { hz: known, after } = this.picture;
    const next = known.findIndex((one) => one >= hz);
    return next < 0 ? after.at(-1) : after[next];
  }

  // A band: dragged, turned by the wheel or the arrows, taken out by Delete.
  node(band) {
    const at = { x: this.x(Math.min(Math.max(band.hz, LOW), HIGH)), y: this.y(this.levelAt(band.hz)) };
    const isInHand = band.id === inHand();
    const group = el(this.svg, "g", {
      class: `node${isInHand ? " in-hand" : ""}`, tabindex: 0, role: "button", "data-node": band.id,
      "aria-label": band.said, transform: `translate(${at.x} ${at.y})`,
    });
    el(group, "title", {}, band.said);
    el(group, "circle", { class: "reach", r: 12 });
    el(group, "circle", { class: "dot", r: 7 });
    el(group, "text", { y: 3.5, "text-anchor": "middle" }, band.number);
    group.addEventListener("pointerdown", (event) => this.hold(event, group, band, at));
    group.addEventListener("dblclick", (event) => event.stopPropagation());
    group.addEventListener("wheel", (event) => {
      event.preventDefault();
      this.set(band, { q: band.q * STEP.width ** (event.deltaY < 0 ? 1 : -1) });
      this.keepSoon();
    }, { passive: false });
    group.addEventListener("keydown", (event) => this.key(event, band));
    return group;
  }

  // With Alt up and down is the width.
  hold(event, group, band, at) {
    event.preventDefault();
    group.focus({ preventScroll: true });
    group.setPointerCapture(event.pointerId);
    const from = { ...band, x: event.clientX, y: event.clientY };
    let isDragged = false;
    const move = (e) => {
      const dx = e.clientX - from.x, dy = e.clientY - from.y;
      if (!isDragged && Math.hypot(dx, dy) < DRAGGED_PX) return;
      isDragged = true;
      if (e.altKey) this.set(band, { q: from.q * STEP.width ** (-dy / 8) });
      else {
        this.set(band, { hz: this.hzAt(at.x + dx), gain: from.gain - dy * this.dbAPixel });
        group.setAttribute("transform", `translate(${at.x + dx} ${at.y + dy})`);
      }
    };
    const leave = () => {
      group.removeEventListener("pointermove", move);
      group.removeEventListener("pointerup", up);
    };
    const up = () => {
      leave();
      if (isDragged) {
        window.arkundPointerUp = performance.now();
        keepTry().then(() => this.take(band.id));
      } else this.take(band.id);
    };
    group.addEventListener("pointermove", move);
    group.addEventListener("pointerup", up);
    group.addEventListener("pointercancel", leave);
  }

  key(event, band) {
    const by = event.shiftKey ? FINE : 1, turn = { ArrowRight: 1, ArrowLeft: -1, ArrowUp: 1, ArrowDown: -1 }[event.key];
    if (event.key === "Delete" || event.key === "Backspace") {
      keepValues({ [band.path]: null }).then(() => this.take(""));
    } else if (event.key === "Enter" || event.key === " ") this.take(band.id);
    else if (!turn) return;
    else {
      if (event.altKey) this.set(band, { q: band.q * STEP.width ** (turn * by) });
      else if (event.key === "ArrowUp" || event.key === "ArrowDown") this.set(band, { gain: band.gain + turn * by * STEP.gain }, 0.1);
      else this.set(band, { hz: band.hz * 2 ** (turn * by * STEP.octaves) });
      this.keepSoon();
    }
    event.preventDefault();
    event.stopPropagation();
  }

  // What is tried of a band, within its ends; what is out is put in, since it is meant to be heard.
  set(band, wish, grain = 0.5) {
    const held = (name, value) => Math.min(Math.max(value, band.within[name][0]), band.within[name][1]);
    const patch = { [`${band.path}.on`]: true };
    if (wish.hz) patch[`${band.path}.frequency_hz`] = band.hz = Math.round(held("hz", wish.hz) * 10) / 10;
    if (wish.q) patch[`${band.path}.q`] = band.q = Math.round(held("q", wish.q) * 100) / 100;
    if (wish.gain !== undefined) patch[`${band.path}.gain_db`] = band.gain = held("gain", Math.round(wish.gain / grain) * grain);
    tryValues(patch);
  }

  keepSoon() {
    clearTimeout(this.later);
    this.later = setTimeout(keepTry, SOON_MS);
  }

  // Double click: a band there, through the place that was clicked.
  add(event) {
    const { add } = this.picture;
    if (!add) return;
    const box = this.svg.getBoundingClientRect();
    const hz = this.hzAt(event.clientX - box.left), at = event.clientY - box.top;
    if (at < FLAGS || at > this.floor || hz < LOW || hz > HIGH) return;
    const off = (this.y(this.levelAt(hz)) - at) * this.dbAPixel;
    const gain = Math.round(Math.min(Math.max(off, -add.most_db), add.most_db) * 2) / 2;
    const values = { on: true, kind: "bell", frequency_hz: Math.round(hz), gain_db: gain, q: 1 };
    const patch = add.is_new ? { [add.path]: values } : Object.fromEntries(Object.entries(values).map(([name, value]) => [`${add.path}.${name}`, value]));
    keepValues(patch).then(() => this.take(add.id));
  }

  // The band whose rulers stand beside.
  take(id) {
    const url = new URL(location.href);
    if (id) url.searchParams.set("band", id); else url.searchParams.delete("band");
    if (id && id === inHand()) return;
    visit(url, { isBack: true });
  }
}
