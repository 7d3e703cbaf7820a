// Bus: lines from the mics into the parallel bus and the drum bus, the punch card.
import { bench, on } from "../../js/bench.js";
import { drawChain, startChain } from "../../js/chain.js";
import { clear, el, familyOf, mark, minus } from "../../js/draw.js";
import { hang } from "../dynamics/page.js";

export function start() {
  startChain();
  on("picture", (p) => {
    drawChain(p.chain || []);
    drawRouting(p);
    const squeeze = clear(document.getElementById("squeeze"));
    if (p.reduction) {
      el(squeeze, "line", { class: "zero", x1: 30, x2: 396, y1: 6, y2: 6 });
      for (const db of [0, 6, 12, 18, 24]) {
        el(squeeze, "line", { class: "gridline", x1: 30, x2: 396, y1: 6 + db * 4, y2: 6 + db * 4 });
        el(squeeze, "text", { x: 26, y: 9 + db * 4, "text-anchor": "end" }, db ? `−${db}` : "0");
      }
      hang(squeeze, p.reduction.map((v) => Math.min(v, 25)), 30, 396, 6, 4);
      document.getElementById("most").textContent = `reduction typically ${minus(p.typical_db)}, at most ${minus(p.most_db)} dB`;
    }
    const body = document.querySelector("#card tbody");
    body.replaceChildren();
    for (const row of p.card) {
      const line = body.insertRow();
      const change = row.after - row.before;
      [row.name, minus(row.before), "→", minus(row.after), row.unit, `${change >= 0 ? "+" : ""}${minus(change)}`, row.wanted || ""].forEach((text, i) => {
        const cell = line.insertCell();
        cell.textContent = text;
        if ([1, 3, 5].includes(i)) cell.className = "fig";
        if (i === 4) cell.className = "quiet";
        if (i === 6) cell.className = row.met === false ? "text-trouble whitespace-nowrap" : "quiet whitespace-nowrap";
      });
    }
  });
}

function drawRouting(p) {
  const svg = clear(document.getElementById("routing"));
  const step = Math.min(23, 306 / p.routing.length);
  const name = p.bus === "drum_bus" ? "" : p.bus;
  const thick = (db) => Math.max(0.8, (db + 48) / 7);
  const bus = { x: 430, y: 60 }, sum = { x: 580, y: 190 };
  p.routing.forEach((row, i) => {
    const y = 16 + i * step, family = familyOf(row.family);
    const group = el(svg, "g", { class: family });
    mark(group, family, 8, y, 3.4, { class: "solid" });
    el(group, "text", { x: 18, y: y + 3.5, class: row.mic === bench.mic ? "strong" : "" }, row.label);
    el(group, "line", { class: "line", "stroke-width": thick(row.peak), x1: 96, x2: 230, y1: y, y2: y });
    if (row.send !== null) {
      el(group, "circle", { class: "hollow", cx: 170, cy: y, r: 3 });
      el(group, "path", { class: "line thin dashed", d: `M170 ${y}C240 ${y} 300 ${bus.y} ${bus.x} ${bus.y}` });
    }
    // The fader mark stands after the tap.
    el(svg, "rect", { class: "flag", x: 228, y: y - 6, width: 44, height: 12, rx: 1 });
    el(svg, "text", { x: 250, y: y + 3.5, "text-anchor": "middle" }, row.fader === null ? "mute" : row.fader <= -90 ? "off" : minus(row.fader));
    if (row.fader !== null && row.fader > -90) {
      el(group, "path", { class: "line", "stroke-width": thick(row.peak + row.fader), opacity: 0.55, d: `M272 ${y}C400 ${y} 460 ${sum.y} ${sum.x} ${sum.y}` });
    }
  });
  if (name) {
    el(svg, "rect", { class: "flag", x: bus.x, y: bus.y - 22, width: 88, height: 44, rx: 2 });
    el(svg, "text", { class: "strong", x: bus.x + 44, y: bus.y - 5, "text-anchor": "middle" }, p.called);
    el(svg, "text", { x: bus.x + 44, y: bus.y + 11, "text-anchor": "middle" }, p.typical_db > 0 ? `−${minus(p.typical_db)} dB` : "no reduction");
    el(svg, "path", { class: "inkline", d: `M${bus.x + 88} ${bus.y}C560 ${bus.y} 540 ${sum.y - 14} ${sum.x} ${sum.y - 14}` });
  }
  el(svg, "rect", { class: "flag", x: sum.x, y: sum.y - 30, width: 108, height: 60, rx: 2 });
  el(svg, "text", { class: "strong", x: sum.x + 54, y: sum.y - 8, "text-anchor": "middle" }, "drum bus");
  el(svg, "text", { x: sum.x + 54, y: sum.y + 10, "text-anchor": "middle" }, `peak ${minus(p.peak_dbfs)} dBFS`);
}
