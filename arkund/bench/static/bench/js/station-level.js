// Level: one row a mic, the spread of its stroke peaks.
import { on } from "./bench.js";
import { clear, el, familyOf, mark, minus } from "./draw.js";

export function startLevel() {
  on("picture", ({ rows, target }) => {
    const svg = clear(document.getElementById("spread"));
    const step = Math.min(30, 386 / rows.length);
    const x = (db) => 110 + ((Math.max(db, -60) + 60) / 66) * 520;
    svg.setAttribute("viewBox", `0 0 700 ${rows.length * step + 34}`);
    el(svg, "rect", { class: "target", x: x(target[0]), width: x(target[1]) - x(target[0]), y: 4, height: rows.length * step });
    for (let db = -60; db <= 6; db += 6) {
      el(svg, "line", { class: db === 0 ? "zero" : "gridline", x1: x(db), x2: x(db), y1: 4, y2: rows.length * step + 6 });
      el(svg, "text", { x: x(db), y: rows.length * step + 20, "text-anchor": "middle" }, minus(db, 0));
    }
    rows.forEach((row, i) => {
      const y = 4 + (i + 0.5) * step;
      const family = familyOf(row.family);
      const group = el(svg, "g", { class: family });
      mark(group, family, 8, y, 3.4, { class: "solid" });
      el(group, "text", { x: 18, y: y + 3.5, class: row.chosen ? "strong" : "" }, row.label + (row.mute ? " (muted)" : ""));
      row.peaks.forEach((db, n) => {
        el(group, "circle", { class: db > 0 ? "bad" : "dot", cx: x(db), cy: y + ((n * 7) % 11 - 5) * 0.7, r: 1.9 });
      });
      el(group, "line", { class: "stem", x1: x(row.typical), x2: x(row.typical), y1: y - 9, y2: y + 9 });
      el(group, "text", { x: 690, y: y + 3.5, "text-anchor": "end", class: row.chosen ? "strong" : "" }, minus(row.typical));
    });
  });
}
