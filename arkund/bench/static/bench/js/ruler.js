// The measured ruler: the measurement drawn in the scale of the value that acts on it.
import { getJson, notify } from "./api.js";
import { address, bench, dropTry, here, keepTry, on, query, tryValues, valueAt } from "./bench.js";
import { clear, el } from "./draw.js";
import { openLadder } from "./ladder.js";
import { scaleOf, tickText } from "./scale.js";

const WIDTH = 280;
const TALL = { height: 52, base: 38, needle: 0 }, SHORT = { height: 30, base: 18, needle: 6 };
const SOON_MS = 900;
// A click takes hold of a ruler; from so many pixels on it is a drag.
const DRAGGED_PX = 3;
const KEYS = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1 };

export function ruler() {
  return { init() { new Ruler(this.$el).start(); } };
}

class Ruler {
  constructor(root) {
    const { low, high, step, scale, unit } = root.dataset;
    this.root = root;
    this.data = root.dataset;
    this.svg = this.part("scale");
    this.input = this.part("value");
    this.size = root.classList.contains("short") ? SHORT : TALL;
    this.scale = scaleOf({ low: Number(low), high: Number(high), step: Number(step), log: scale === "log", unit, width: WIDTH });
    this.value = Number(this.data.value);
    this.isOn = this.data.on === "1";
    this.drawing = {};
    this.before = null; // what it was when a drag began
    this.held = null; // where the pointer took hold, until it lets go
    this.later = 0;
  }

  part(name) { return this.root.querySelector(`[data-part=${name}]`); }

  start() {
    this.svg.setAttribute("viewBox", `0 0 ${WIDTH} ${this.size.height}`);
    this.followPointer();
    this.followKeys();
    this.followTyping();
    this.followBench();
    this.part("switch")?.addEventListener("click", () => {
      this.isOn = !this.isOn;
      this.draw();
      tryValues({ [this.data.switch]: this.isOn });
      keepTry();
    });
    this.draw();
  }

  // What is tried when the value moves. Touching a ruler whose stage is out puts it in: what is set
  // is meant to be heard.
  patch() {
    const isShut = this.data.shut !== "" && this.value <= this.scale.low;
    const patch = { [this.data.path]: isShut ? Number(this.data.shut) : this.value };
    if (this.data.switch && !this.isOn) {
      this.isOn = true;
      patch[this.data.switch] = true;
    }
    return patch;
  }

  change(value) {
    this.value = this.scale.held(this.scale.rounded(value));
    const patch = this.patch();
    this.draw();
    tryValues(patch);
  }

  nudge(direction, fine) {
    this.value = this.scale.moved(this.value, direction, fine);
    const patch = this.patch();
    this.draw();
    tryValues(patch);
    this.keepSoon();
  }

  keepSoon() {
    clearTimeout(this.later);
    this.later = setTimeout(keepTry, SOON_MS);
  }

  // A drag is left: everything is as it was before it.
  leave() {
    this.held = null;
    if (!this.before) return;
    [this.value, this.isOn] = this.before;
    this.before = null;
    this.draw();
    dropTry();
  }

  // A drag moves the value as far as the pointer moves, from wherever it took hold.
  followPointer() {
    const { svg } = this;
    svg.addEventListener("pointerdown", (event) => {
      if (event.target.classList.contains("proposed")) {
        this.change(this.proposed());
        keepTry();
        return;
      }
      svg.setPointerCapture(event.pointerId);
      svg.focus({ preventScroll: true });
      this.held = { from: event.clientX, at: this.scale.x(this.value) };
    });
    svg.addEventListener("pointermove", (event) => {
      if (!this.held) return;
      const by = event.clientX - this.held.from;
      if (!this.before && Math.abs(by) < DRAGGED_PX) return;
      this.before = this.before || [this.value, this.isOn];
      this.change(this.scale.valueAt(this.held.at + (by / svg.getBoundingClientRect().width) * WIDTH));
    });
    svg.addEventListener("pointerup", () => {
      this.held = null;
      if (!this.before) return;
      this.before = null;
      window.arkundPointerUp = performance.now();
      keepTry();
    });
    svg.addEventListener("pointercancel", () => this.leave());
    svg.addEventListener("dblclick", () => { this.change(Number(this.data.fallback)); keepTry(); });
    svg.addEventListener("wheel", (event) => {
      if (document.activeElement !== svg) return;
      event.preventDefault();
      this.nudge(event.deltaY < 0 ? 1 : -1, event.shiftKey);
    }, { passive: false });
  }

  followKeys() {
    this.svg.addEventListener("keydown", (event) => {
      if (event.key in KEYS) this.nudge(KEYS[event.key], event.shiftKey);
      else if (event.key === "Home" || event.key === "End") {
        this.change(event.key === "Home" ? this.scale.low : this.scale.high);
        this.keepSoon();
      } else if (event.key === "Enter") this.input.focus();
      else if (event.key.toLowerCase() === "l" && !bench.keys.l) openLadder(this.data.path);
      else return;
      event.preventDefault();
      event.stopPropagation();
    });
    document.addEventListener("keydown", (event) => { if (event.key === "Escape") this.leave(); }, { signal: here() });
  }

  followTyping() {
    const { input } = this;
    input.addEventListener("focus", () => input.select());
    input.addEventListener("change", async () => {
      let value;
      try {
        ({ value } = await getJson(`${address("value/")}?${query({ text: input.value, unit: this.data.unit })}`));
      } catch (error) {
        notify(error.message);
        input.value = this.scale.written(this.value);
        return;
      }
      // A typed figure is kept as it is; only what is dragged is rounded.
      this.change(value);
      this.value = this.scale.held(value);
      tryValues({ [this.data.path]: this.value });
      this.draw();
      keepTry();
    });
    input.addEventListener("keydown", (event) => {
      if (event.key === "Enter") input.blur();
      event.stopPropagation();
    });
  }

  followBench() {
    const { path, switch: switched } = this.data;
    on("picture", (picture) => {
      this.drawing = (picture.rulers || {})[path] || {};
      this.draw();
    });
    // What takes longer to measure than the picture comes after it.
    on("measured", (rulers) => {
      if (!(path in rulers)) return;
      Object.assign(this.drawing, rulers[path]);
      this.draw();
    });
    on("kept", (sheet) => {
      if (this.before) return;
      const value = valueAt(sheet, path);
      if (typeof value === "number") this.value = value;
      if (switched) this.isOn = Boolean(valueAt(sheet, switched));
      this.draw();
    });
    on("marks", (marks) => {
      this.mark = typeof marks[path] === "number" ? marks[path] : undefined;
      this.draw();
    });
    on("proposed", (patch) => {
      if (!(path in patch) && !(switched in patch)) return;
      if (path in patch) this.value = Number(patch[path]);
      if (switched in patch) this.isOn = Boolean(patch[switched]);
      this.draw();
    });
    on("refused", (patch) => { if (path in patch) { this.value = Number(this.data.value); this.draw(); } });
  }

  proposed() { return this.mark ?? this.drawing.proposed; }

  draw() {
    clear(this.svg);
    this.drawMeasured();
    this.drawAxis();
    this.drawProposed();
    this.drawValue();
    const hint = this.part("hint");
    if (hint && this.drawing.note) hint.textContent = `${this.data.hint} · ${this.drawing.note}`;
    this.root.classList.toggle("off", !this.isOn);
    const toggle = this.part("switch");
    if (toggle) toggle.textContent = this.isOn ? "on" : "off";
  }

  drawMeasured() {
    const { svg, scale: { x, low, high }, size: { base } } = this;
    for (const [from, to] of this.drawing.zones || []) {
      el(svg, "rect", { class: "zone", x: x(from), y: 4, width: Math.max(x(to) - x(from), 0), height: base - 4 });
    }
    for (const area of this.drawing.areas || []) {
      const points = area.points.filter(([v]) => v >= low && v <= high);
      if (!points.length) continue;
      const line = points.map(([v, h]) => `L${x(v).toFixed(1)} ${(base - h * (base - 6)).toFixed(1)}`).join("");
      el(svg, "path", { class: area.tone, d: `M${x(points[0][0])} ${base}${line}L${x(points.at(-1)[0])} ${base}z` });
    }
    for (const [from, to, h, tone] of this.drawing.bars || []) {
      const left = x(from), width = Math.max(x(to) - left - 0.6, 1.4);
      el(svg, "rect", { class: tone, x: left, width, y: base - h * (base - 8), height: h * (base - 8) });
    }
  }

  drawAxis() {
    const { svg, scale: { x, low, high }, size: { base } } = this;
    el(svg, "line", { class: "axis", x1: 6, x2: WIDTH - 6, y1: base, y2: base });
    for (const v of this.data.ticks.split(" ").map(Number)) {
      el(svg, "line", { class: "axis", x1: x(v), x2: x(v), y1: base, y2: base + 3 });
      el(svg, "text", { class: "tick", x: Math.min(Math.max(x(v), 10), WIDTH - 10), y: base + 12 }, tickText(v));
    }
    for (const [v, name] of this.drawing.marks || []) {
      if (v < low || v > high) continue;
      el(svg, "line", { class: "gridline", x1: x(v), x2: x(v), y1: 8, y2: base });
      el(svg, "text", { class: "note", x: x(v), y: 8 }, name);
    }
  }

  drawProposed() {
    const { scale, size: { base } } = this, value = this.proposed();
    if (value === undefined || value < scale.low || value > scale.high) return;
    const p = scale.x(value);
    const tip = el(this.svg, "path", { class: "proposed", d: `M${p - 5} ${base + 1}L${p} ${base - 8}L${p + 5} ${base + 1}z` });
    el(tip, "title", {}, `proposed: ${scale.written(value)} ${this.data.unit}`);
  }

  drawValue() {
    const { svg, scale, size: { base, needle } } = this;
    const at = scale.x(this.value), written = scale.written(this.value);
    el(svg, "line", { class: "needle", x1: at, x2: at, y1: needle, y2: base });
    el(svg, "rect", { class: "thumb", x: at - 4, y: base - 6, width: 8, height: 12, rx: 1.5 });
    svg.setAttribute("aria-valuenow", this.value);
    svg.setAttribute("aria-valuetext", `${written} ${this.data.unit}`);
    if (document.activeElement !== this.input) this.input.value = written;
  }
}
