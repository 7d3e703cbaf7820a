// Shape, EQ: ink area of the hits, bleed behind, the ribbon of what is added or taken.
import { drawChain, startChain } from "../../js/chain.js";
import { bench, keepTry, on, tryValues } from "../../js/bench.js";
import { clear, el, familyOf, levels, minus, path } from "../../js/draw.js";

const LOW = 25, HIGH = 18000;

export function start() {
  const svg = document.getElementById("spectrum");
  const x = (hz) => 36 + (Math.log(hz / LOW) / Math.log(HIGH / LOW)) * 656;
  const hzAt = (px) => LOW * (HIGH / LOW) ** ((px - 36) / 656);
  const y = (db) => 66 + (Math.max(Math.min(db, 14), -62) / -62) * 354;

  startChain();
  on("picture", (p) => {
    drawChain(p.chain);
    if (!svg || !p.hz) return;
    clear(svg);
    levels(svg, y, [0, -12, -24, -36, -48, -60], 36, 692);
    for (const hz of [30, 50, 100, 200, 300, 500, 1000, 2000, 3000, 5000, 10000]) {
      el(svg, "line", { class: "gridline", x1: x(hz), x2: x(hz), y1: 60, y2: 422 });
      el(svg, "text", { x: x(hz), y: 434, "text-anchor": "middle" }, hz >= 1000 ? `${hz / 1000}k` : hz);
    }
    const points = (values) => values.map((v, i) => [x(p.hz[i]), y(v)]);
    const floor = `L${x(p.hz.at(-1))} 422L${x(p.hz[0])} 422z`;
    el(svg, "path", { class: "under", d: path(points(p.before)) + floor });
    el(svg, "path", { class: "bleed-line", d: path(points(p.bleed)) });
    ribbon(p, points);
    el(svg, "path", { class: `line ${familyOf(bench.piece)}`, d: path(points(p.after)) });
    p.landmarks.forEach((l, i) => {
      el(svg, "line", { class: "bleed-line", x1: x(l.hz), x2: x(l.hz), y1: 422, y2: 440 + i * 10 });
      el(svg, "text", { class: "strong", x: Math.min(x(l.hz) + 3, 600), y: 446 + i * 10 }, `${l.name} ${l.hz.toFixed(0)} Hz · ${l.note}`);
    });
    p.flags.forEach((flag, i) => drawFlag(flag, i));
  });

  // What the EQ adds lies in green over the hits, what it takes in oxide under them.
  function ribbon(p, points) {
    const before = points(p.before), after = points(p.after);
    let run = [];
    const close = () => {
      if (run.length > 1) {
        const adds = p.gain[run[Math.floor(run.length / 2)]] > 0;
        const d = path(run.map((i) => before[i])) + path(run.map((i) => after[i]).reverse()).replace("M", "L");
        el(svg, "path", { class: adds ? "adds" : "takes", d: `${d}z` });
      }
      run = [];
    };
    p.gain.forEach((g, i) => {
      if (run.length && Math.sign(g) !== Math.sign(p.gain[run[0]])) close();
      if (Math.abs(g) > 0.05) run.push(i); else close();
    });
    close();
  }

  function drawFlag(flag, i) {
    const px = x(Math.min(Math.max(flag.hz, LOW), HIGH)), py = 12 + (i % 4) * 14;
    const group = el(svg, "g", { class: "flag-group" });
    el(group, "line", { class: "stem", x1: px, x2: px, y1: py + 5, y2: 422 });
    const width = flag.text.length * 6.1 + 10;
    const left = px + width > 694 ? px - width : px;
    const box = el(group, "rect", { class: "flag", x: left, y: py - 7, width, height: 13, rx: 1 });
    el(group, "text", { class: "strong", x: left + 5, y: py + 3 }, flag.text);
    if (flag.path === null) return;
    box.setAttribute("cursor", "grab");
    // A flag is moved along the frequency line and, up or down, in gain.
    group.addEventListener("pointerdown", (event) => {
      event.preventDefault();
      const scale = 700 / svg.getBoundingClientRect().width;
      const from = { x: event.clientX, y: event.clientY };
      const move = (e) => {
        const hz = hzAt(px + (e.clientX - from.x) * scale);
        const gain = flag.gain - (e.clientY - from.y) * scale * 0.12;
        tryValues({
          [`${flag.path}.frequency_hz`]: Math.round(Math.min(Math.max(hz, flag.within.hz[0]), flag.within.hz[1])),
          [`${flag.path}.gain_db`]: Math.round(Math.min(Math.max(gain, flag.within.gain[0]), flag.within.gain[1]) * 2) / 2,
        });
      };
      const up = () => {
        removeEventListener("pointermove", move);
        removeEventListener("pointerup", up);
        window.arkundPointerUp = performance.now();
        keepTry();
      };
      addEventListener("pointermove", move);
      addEventListener("pointerup", up);
    });
    el(group, "title", {}, `${minus(flag.gain)} dB at ${flag.hz} Hz: drag`);
  }
}
