// Shape, dynamics: hits as stems before and after, the reduction hanging from the top.
import { barStart, bench, on } from "../../js/bench.js";
import { drawChain, startChain } from "../../js/chain.js";
import { clear, el, familyOf, levels, mark, minus, path } from "../../js/draw.js";
import { startSteps } from "./steps.js";

export function start() {
  startChain();
  startSteps();
  on("picture", (p) => {
    drawChain(p.chain);
    if (!p.envelope) return;
    drawStems(p);
    drawEnvelope(p.envelope);
    document.getElementById("by-band").hidden = p.bands.length === 0;
    if (p.bands.length) drawBands(p.bands, p.envelope.seconds);
    document.getElementById("levels").hidden = p.transfer.length === 0;
    if (p.transfer.length) drawTransfer(p.transfer);
    document.getElementById("most").textContent = p.said;
  });
}

// Reduction hangs from the top line; shared with the bus.
export function hang(svg, values, left, right, top, perDb) {
  const points = values.map((v, i) => [left + ((right - left) * i) / values.length, top + v * perDb]);
  if (!points.length) return;
  el(svg, "path", { class: "hang", d: `${path(points)}L${right} ${top}L${left} ${top}z` });
}

function drawStems(p) {
  const svg = clear(document.getElementById("stems"));
  const [start, stop] = p.span;
  const x = (t) => 34 + ((t * bench.rate - start) / (stop - start)) * 656;
  const y = (db) => 62 + (Math.max(Math.min(db, 0), -48) / -48) * 140;
  levels(svg, y, [0, -12, -24, -36, -48], 34, 690);
  for (let n = bench.loop[0]; n <= bench.loop[1] + 1; n += 1) {
    const at = x(barStart(n));
    el(svg, "line", { class: "gridline", x1: at, x2: at, y1: 8, y2: 202 });
    if (n <= bench.loop[1]) el(svg, "text", { x: at + 3, y: 216 }, `bar ${n}`);
  }
  el(svg, "line", { class: "zero", x1: 34, x2: 690, y1: 8, y2: 8 });
  hang(svg, p.reduction, 34, 690, 8, 2.6);
  el(svg, "text", { x: 30, y: 8 + 12 * 2.6 + 3, "text-anchor": "end" }, "−12");
  const family = familyOf(bench.piece);
  for (const s of p.hits) {
    const group = el(svg, "g", { class: family });
    el(group, "line", { class: "line thin", x1: x(s.t), x2: x(s.t), y1: y(s.before), y2: y(s.after) });
    mark(group, family, x(s.t), y(s.before), 3.6, { class: "hollow" });
    mark(group, family, x(s.t), y(s.after), 3, { class: "solid" });
  }
}

function drawEnvelope(e) {
  const svg = clear(document.getElementById("envelope"));
  const top = Math.max(...e.before, ...e.after);
  const x = (ms) => 34 + (ms / (e.seconds * 1000)) * 288, y = (db) => 10 + (Math.max(db - top, -48) / -48) * 130;
  levels(svg, (v) => y(v + top), [0, -12, -24, -36, -48], 34, 322);
  for (let ms = 0; ms <= e.seconds * 1000; ms += 50) el(svg, "text", { x: x(ms), y: 158, "text-anchor": "middle" }, ms);
  const points = (values) => path(values.map((v, i) => [x((i / values.length) * e.seconds * 1000), y(v)]));
  el(svg, "path", { class: "inkline", "stroke-dasharray": "4 3", opacity: 0.6, d: points(e.before) });
  el(svg, "path", { class: `line ${familyOf(bench.piece)}`, d: points(e.after) });
}

function drawTransfer(curve) {
  const svg = clear(document.getElementById("transfer"));
  const x = (db) => 34 + ((db + 60) / 60) * 288, y = (db) => 10 + (Math.max(db, -60) / -60) * 130;
  levels(svg, y, [0, -20, -40, -60], 34, 322);
  for (const db of [-60, -40, -20, 0]) el(svg, "text", { x: x(db), y: 158, "text-anchor": "middle" }, minus(db, 0));
  el(svg, "line", { class: "bleed-line", x1: x(-60), x2: x(0), y1: y(-60), y2: y(0) });
  el(svg, "path", { class: `line ${familyOf(bench.piece)}`, d: path(curve.map(([a, b]) => [x(a), y(b)])) });
}

// Side by side, all under one top.
function drawBands(bands, seconds) {
  const svg = clear(document.getElementById("bands"));
  const top = Math.max(...bands.flatMap((b) => [...b.before, ...b.after]));
  const wide = 288 / bands.length, y = (db) => 22 + (Math.max(db - top, -48) / -48) * 118;
  levels(svg, (v) => y(v + top), [0, -12, -24, -36, -48], 34, 322);
  bands.forEach((band, n) => {
    const left = 34 + n * wide, x = (i) => left + (i / band.before.length) * (wide - 6);
    const points = (values) => path(values.map((v, i) => [x(i), y(v)]));
    el(svg, "text", { x: left, y: 12 }, band.words);
    if (n === 0) el(svg, "text", { x: left, y: 158 }, "0");
    el(svg, "text", { x: left + wide - 8, y: 158, "text-anchor": "end" }, seconds * 1000);
    el(svg, "path", { class: "inkline", "stroke-dasharray": "4 3", opacity: 0.6, d: points(band.before) });
    el(svg, "path", { class: `line ${familyOf(bench.piece)}`, d: points(band.after) });
  });
}
