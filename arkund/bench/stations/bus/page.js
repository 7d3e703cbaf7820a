// Bus: lines from the mics into the parallel bus and the drum bus, the punch card.
import { bench, on } from "../../js/bench.js";
import { changeSends, drawChain, startChain } from "../../js/chain.js";
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

const STRIP = { tap: 170, fader: 228, group: 326, bus: 470, sum: 584 };

function drawRouting(p) {
  const svg = clear(document.getElementById("routing"));
  const step = Math.min(23, 306 / p.routing.length);
  const isBus = p.bus in bench.sheet.buses;
  const thick = (db) => Math.max(0.8, (db + 48) / 7);
  const bus = { x: STRIP.bus, y: 46 }, sum = { x: STRIP.sum, y: 190 };
  const rowAt = (i) => 16 + i * step;
  const groups = p.groups.map((group) => {
    const own = p.routing.map((row, i) => (row.to === group.name ? rowAt(i) : null)).filter((y) => y !== null);
    return { ...group, y: own.length ? (Math.min(...own) + Math.max(...own)) / 2 : null };
  }).filter((group) => group.y !== null);
  // None covers another.
  groups.sort((a, b) => a.y - b.y).forEach((group, n) => { if (n) group.y = Math.max(group.y, groups[n - 1].y + 24); });
  p.routing.forEach((row, i) => {
    const y = rowAt(i), family = familyOf(row.family);
    const lane = el(svg, "g", { class: family });
    mark(lane, family, 8, y, 3.4, { class: "solid" });
    el(lane, "text", { x: 18, y: y + 3.5, class: row.mic === bench.mic ? "strong" : "" }, row.label);
    el(lane, "line", { class: "line", "stroke-width": thick(row.peak), x1: 96, x2: 230, y1: y, y2: y });
    if (isBus) el(lane, "circle", { class: row.send === null ? "hollow tap" : "solid tap", cx: STRIP.tap, cy: y, r: 3.4, "data-tap": row.mic });
    if (row.send !== null) {
      el(lane, "path", { class: "line thin dashed", d: `M${STRIP.tap} ${y}C260 ${y} 330 ${bus.y} ${bus.x} ${bus.y}` });
    }
    // The fader mark stands after the tap.
    el(svg, "rect", { class: "flag", x: STRIP.fader, y: y - 6, width: 44, height: 12, rx: 1 });
    el(svg, "text", { x: STRIP.fader + 22, y: y + 3.5, "text-anchor": "middle" }, faded(row.fader));
    if (!row.to || row.fader === null || row.fader <= -90) return;
    const group = groups.find((one) => one.name === row.to);
    const to = group ? { x: STRIP.group, y: group.y } : sum;
    const bend = (STRIP.fader + 44 + to.x) / 2;
    el(lane, "path", { class: "line", "stroke-width": thick(row.peak + row.fader), opacity: 0.55, d: `M272 ${y}C${bend} ${y} ${bend} ${to.y} ${to.x} ${to.y}` });
  });
  for (const group of groups) {
    const isInHand = group.name === p.bus, isShut = group.fader === null || group.fader <= -90;
    if (!isShut) el(svg, "path", { class: "inkline", opacity: 0.7, d: `M${STRIP.group + 92} ${group.y}C510 ${group.y} 530 ${sum.y} ${sum.x} ${sum.y}` });
    el(svg, "rect", { class: isInHand ? "flag chosen" : "flag", x: STRIP.group, y: group.y - 9, width: 92, height: 18, rx: 2 });
    const does = group.stages ? ` · ${group.stages}` : "";
    el(svg, "text", { class: "strong", x: STRIP.group + 46, y: group.y + 3.5, "text-anchor": "middle" }, `${group.name} ${faded(group.fader)}${does}`);
  }
  if (isBus) {
    el(svg, "rect", { class: "flag chosen", x: bus.x, y: bus.y - 22, width: 88, height: 44, rx: 2 });
    el(svg, "text", { class: "strong", x: bus.x + 44, y: bus.y - 5, "text-anchor": "middle" }, p.called);
    el(svg, "text", { x: bus.x + 44, y: bus.y + 11, "text-anchor": "middle" }, p.typical_db > 0 ? `−${minus(p.typical_db)} dB` : "no reduction");
    el(svg, "path", { class: "inkline", d: `M${bus.x + 88} ${bus.y}C590 ${bus.y} 560 ${sum.y - 14} ${sum.x} ${sum.y - 14}` });
  }
  el(svg, "rect", { class: p.bus === "drum_bus" ? "flag chosen" : "flag", x: sum.x, y: sum.y - 30, width: 108, height: 60, rx: 2 });
  el(svg, "text", { class: "strong", x: sum.x + 54, y: sum.y - 8, "text-anchor": "middle" }, "drum bus");
  el(svg, "text", { x: sum.x + 54, y: sum.y + 10, "text-anchor": "middle" }, `peak ${minus(p.peak_dbfs)} dBFS`);
  if (isBus) followTaps(svg, p);
}

const faded = (db) => (db === null ? "mute" : db <= -90 ? "off" : minus(db));

// A drag over the taps makes sends of all that it crosses, or takes them away, as the first one goes.
function followTaps(svg, p) {
  const taps = [...svg.querySelectorAll("[data-tap]")];
  const sent = new Set(p.routing.filter((row) => row.send !== null).map((row) => row.mic));
  const near = (event) => taps.find((tap) => {
    const box = tap.getBoundingClientRect();
    return Math.abs(event.clientY - (box.top + box.bottom) / 2) < 10;
  });
  const isAt = (event) => taps.length && Math.abs(event.clientX - (taps[0].getBoundingClientRect().left + 4)) < 16;
  svg.onpointerdown = (event) => {
    const first = isAt(event) && near(event);
    if (!first) return;
    svg.setPointerCapture(event.pointerId);
    const adds = !sent.has(first.dataset.tap), crossed = new Set();
    const cross = (e) => {
      const tap = near(e);
      if (!tap || sent.has(tap.dataset.tap) === adds) return;
      crossed.add(tap.dataset.tap);
      tap.setAttribute("class", adds ? "solid tap" : "hollow tap");
    };
    cross(event);
    svg.onpointermove = cross;
    svg.onpointerup = () => {
      svg.onpointermove = svg.onpointerup = null;
      changeSends(p.bus, [...crossed], adds);
    };
  };
}
