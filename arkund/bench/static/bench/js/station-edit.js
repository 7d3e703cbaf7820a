// Edit: lanes, early and late, the chosen stroke.
import { bench, loopFrames, on } from "./bench.js";
import { clear, el, familyOf, label, levels, mark, minus } from "./draw.js";
import { startLanes } from "./lanes.js";

export function startEdit() {
  let hits = [];
  const box = document.getElementById("stroke");
  const lanes = startLanes((hit) => {
    box.textContent = hit
      ? `${label(hit.piece)} at ${hit.t.toFixed(4)} s · ${hit.kind} · velocity ${hit.v} · ${minus(hit.late_ms)} ms ${hit.late_ms > 0 ? "late" : "early"} · sure ${Math.round(hit.sure * 100)} %`
      : "none chosen; N and B step through this drum's";
  });

  function draw() {
    const [start, stop] = loopFrames().map((f) => f / bench.rate);
    const shown = hits.filter((h) => h.t >= start && h.t < stop);
    const svg = clear(document.getElementById("timing"));
    const y = (ms) => 100 - Math.max(-30, Math.min(30, ms)) * 3;
    levels(svg, y, [-30, -20, -10, 0, 10, 20, 30], 26, 278);
    el(svg, "text", { x: 278, y: y(30) + 10, "text-anchor": "end" }, "late");
    el(svg, "text", { x: 278, y: y(-30) - 3, "text-anchor": "end" }, "early");
    for (const h of shown) {
      const family = familyOf(h.piece);
      mark(svg, family, 28 + ((h.t - start) / (stop - start)) * 246, y(h.late_ms), h.kind === "ghost" ? 2 : 3, { class: `solid ${family}` });
    }
  }

  function fillPieces(placement) {
    const body = document.querySelector("#pieces tbody");
    body.replaceChildren();
    for (const p of placement) {
      const row = body.insertRow();
      [label(p.piece), p.strokes, `${minus(p.middle_ms)} ms`, `±${minus(p.spread_ms)} ms`].forEach((text, i) => {
        const cell = row.insertCell();
        cell.textContent = text;
        if (i) cell.className = "fig";
      });
    }
  }

  on("picture", (picture) => {
    hits = picture.hits;
    fillPieces(picture.placement);
    document.getElementById("lanes-summary").textContent = picture.summary;
    draw();
  });
  on("loop", draw);
  return lanes;
}
