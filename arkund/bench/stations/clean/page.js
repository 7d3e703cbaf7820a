// Clean: the mic over the loop with what the gate removes, how it rings, what the gate does.
import { getBytes, getJson } from "../../js/api.js";
import { address, barStart, bench, here, keepValues, on, query } from "../../js/bench.js";
import { startRegions } from "./regions.js";
import { clear, colour, el, familyOf, levels, minus, outline, path } from "../../js/draw.js";

export function start() {
  let picture = null, waves = null, wanted = 0;
  const regions = startRegions();
  const canvas = document.getElementById("gate");

  on("picture", (next) => {
    picture = next;
    regions.show(next);
    drawRing(next.ring);
    fillRings(next.rings);
    fillReport(next);
    load();
  });
  on("kept", (sheet) => showMode(sheet.mics[bench.mic].clean));

  async function load() {
    const mine = ++wanted;
    const [start, stop] = picture.span;
    const columns = Math.max(200, Math.round(canvas.clientWidth));
    const ask = (node) => getBytes(`${address("lanes/")}?${query({ start, frames: stop - start, columns, mics: bench.mic, node })}`);
    try {
      const [whole, left] = await Promise.all([ask("placed"), ask("clean")]);
      if (mine !== wanted) return;
      waves = { columns, whole: new Int16Array(whole.bytes), left: new Int16Array(left.bytes) };
      draw();
    } catch { /* the next change asks again */ }
  }

  function draw() {
    const ratio = devicePixelRatio || 1;
    const width = canvas.clientWidth, height = 290;
    canvas.width = width * ratio;
    canvas.height = height * ratio;
    canvas.style.height = `${height}px`;
    const pen = canvas.getContext("2d");
    pen.setTransform(ratio, 0, 0, ratio, 0, 0);
    const [start, stop] = picture.span;
    const x = (f) => ((f - start) / (stop - start)) * width;
    const middle = 145, scale = 112;
    const loudest = Math.max(...waves.whole.map(Math.abs), 1);
    const hue = colour(familyOf(picture.piece));
    pen.globalAlpha = 0.12;
    pen.fillStyle = hue;
    for (const [a, b] of picture.openings) pen.fillRect(x(a), 28, x(b) - x(a), 234);
    pen.globalAlpha = 1;
    pen.fillStyle = colour("hairline");
    for (let n = bench.loop[0]; n <= bench.loop[1]; n += 1 / bench.beats) pen.fillRect(x(barStart(n) * bench.rate), 28, 1, 234);
    const wave = (values, tone) => {
      pen.fillStyle = tone;
      for (let c = 0; c < waves.columns; c += 1) {
        const low = (values[2 * c] / loudest) * scale, high = (values[2 * c + 1] / loudest) * scale;
        pen.fillRect((c * width) / waves.columns, middle - high, Math.max(width / waves.columns, 0.8), Math.max(high - low, 0.6));
      }
    };
    wave(waves.whole, colour("hairline"));
    wave(waves.left, hue);
    pen.fillStyle = colour("ink-2");
    pen.fillRect(0, middle, width, 1);
    pen.font = "10px 'Spline Sans Mono'";
    if (picture.threshold_db !== null) {
      const h = ((10 ** (picture.threshold_db / 20) * 32768) / loudest) * scale;
      pen.setLineDash([2, 3]);
      pen.strokeStyle = colour("ink");
      for (const y of [middle - h, middle + h]) { pen.beginPath(); pen.moveTo(0, y); pen.lineTo(width, y); pen.stroke(); }
      pen.setLineDash([]);
      pen.fillStyle = colour("ink");
      if (h < 116) pen.fillText(`threshold ${minus(picture.threshold_db)} dB`, 4, middle - h - 4);
    }
    for (const hit of picture.hits) {
      const own = hit.piece === picture.piece;
      const at = x(hit.t * bench.rate), y = own ? 14 : 274, r = own ? 5 : 3;
      const family = familyOf(hit.piece);
      const shape = new Path2D(outline(family, at, y, r));
      pen.strokeStyle = pen.fillStyle = colour(family);
      if (own && hit.kind !== "ghost") pen.fill(shape); else pen.stroke(shape);
    }
    pen.fillStyle = colour("ink-2");
    pen.fillText("hits of other drums", 4, 288);
  }

  function drawRing(ring) {
    const svg = clear(document.getElementById("ring"));
    const x = (s) => 34 + (s / ring.seconds) * 286, y = (db) => 10 + (Math.max(db, -60) / -60) * 122;
    levels(svg, y, [0, -20, -40, -60], 34, 320);
    for (let s = 0; s <= ring.seconds; s += 0.4) el(svg, "text", { x: x(s), y: 150, "text-anchor": "middle" }, s.toFixed(1));
    const points = (values) => path(values.map((v, i) => [x((i / values.length) * ring.seconds), y(v)]));
    el(svg, "path", { class: `line ${familyOf(picture ? picture.piece : "")}`, d: points(ring.own) });
    el(svg, "text", { x: x(0.5), y: y(-9), class: "" }, "as it rings");
    if (ring.gated) {
      el(svg, "path", { class: "inkline", "stroke-dasharray": "5 4", d: points(ring.gated) });
      el(svg, "text", { x: x(0.5), y: y(-52), class: "strong" }, "after the gate");
    }
  }

  function fillRings(rings) {
    const body = document.querySelector("#rings tbody");
    body.replaceChildren();
    for (const words of rings) {
      const row = body.insertRow();
      words.forEach((text, n) => {
        const cell = row.insertCell();
        cell.textContent = text;
        if (n) cell.className = "fig";
      });
    }
  }

  // How far the kit's cymbals jump needs every mic of the loop, so it is asked once the hand rests.
  let jumpSoon = 0;
  async function askJump(cell) {
    const [start, stop] = picture.span;
    try {
      const { db } = await getJson(`${address("clean/jump/")}?${query({ start, frames: stop - start })}`);
      cell.textContent = db === null ? "–" : `${minus(-db)} dB`;
    } catch { cell.textContent = "–"; }
  }

  function fillReport({ report, false_pieces: whose, own }) {
    const body = document.querySelector("#report tbody");
    body.replaceChildren();
    const put = (name, value, tone = "") => {
      const row = body.insertRow();
      row.insertCell().textContent = name;
      const cell = row.insertCell();
      cell.className = `fig ${tone}`;
      cell.textContent = value;
    };
    if (report.hits === undefined) {
      put("hits found", own);
      put("gate", "out: everything passes");
      return;
    }
    put("hits passed", `${report.passed} of ${report.hits}`, report.missed ? "text-trouble" : "text-applied");
    put("attacks clipped", report.late, report.late ? "text-trouble" : "");
    put("ghosts kept", `${report.ghosts_kept} of ${report.ghosts}`);
    if (report.unlisted) put("opened without a hit in the list", `${report.unlisted} ×`, "text-proposed");
    put("opened by nothing of its own", report.false_open, report.false_open ? "text-trouble" : "text-applied");
    for (const [name, count] of whose) put(`  by ${name}`, count);
    put("bleed between hits", `${minus(-report.bleed_reduction_db)} dB`, "text-applied");
    put("cymbals in the whole kit when it shuts, this loop", "…");
    clearTimeout(jumpSoon);
    jumpSoon = setTimeout(() => askJump(body.rows[body.rows.length - 1].cells[1]), 900);
  }

  const holder = document.querySelector("[data-gate]");
  const root = holder.dataset.gate;
  function showMode(clean) {
    const mode = clean.on ? clean.opens_on : "off";
    holder.querySelectorAll("button").forEach((b) => b.setAttribute("aria-pressed", String(b.dataset.gateMode === mode)));
  }
  holder.querySelectorAll("button").forEach((button) => button.addEventListener("click", () => {
    const mode = button.dataset.gateMode;
    if (mode === "hand" && !Object.keys(bench.sheet.mics[bench.mic].clean.regions).length) {
      regions.derive();
      return;
    }
    const patch = { [`${root}.on`]: mode !== "off" };
    if (mode !== "off") patch[`${root}.opens_on`] = mode;
    keepValues(patch);
  }));
  addEventListener("resize", () => { if (waves) draw(); }, { signal: here() });
  return { showMode };
}
