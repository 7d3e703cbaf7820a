// Peaks of every mic, group, layer and bus at the playhead. The server reads them once a loop and
// change; here they are only drawn.
import { getJson } from "../../js/api.js";
import { bench, here, loopFrames, on, query } from "../../js/bench.js";
import { clear, el, familyOf, minus } from "../../js/draw.js";
import { player } from "../../js/player.js";

const TOP = 14, FOOT = 92, LOWEST = -60;
const HOLD_MS = 1500;

export function startReadings() {
  const svg = document.getElementById("readings");
  let found = null, bars = [], wanted = 0, start = 0, shown = -1;

  const y = (db) => FOOT - ((Math.max(db, LOWEST) - LOWEST) / (6 - LOWEST)) * (FOOT - TOP);

  async function load() {
    const mine = (wanted += 1);
    const [from, stop] = loopFrames();
    let got;
    try {
      got = await getJson(`${svg.dataset.from}?${query({ start: from, frames: stop - from })}`);
    } catch { return; /* the next change asks again */ }
    if (mine !== wanted) return;
    [found, start, shown] = [got, from, -1];
    draw();
  }

  function draw() {
    clear(svg);
    const parts = new Set(found.rows.map((row) => row.part)).size;
    const step = Math.min(44, (676 - 10 * parts) / found.rows.length);
    for (const db of [0, -12, -24, -48]) {
      el(svg, "line", { class: db ? "gridline" : "zero", x1: 24, x2: 700, y1: y(db), y2: y(db) });
      el(svg, "text", { x: 20, y: y(db) + 3, "text-anchor": "end" }, minus(db, 0));
    }
    let x = 30, part = found.rows[0]?.part;
    bars = found.rows.map((row) => {
      if (row.part !== part) { x += 10; part = row.part; }
      const over = row.peak > 0;
      const group = el(svg, "g", { class: row.family ? familyOf(row.family) : "ambience" });
      const wide = Math.min(step - 6, 16);
      el(group, "line", { class: "gridline", x1: x + wide / 2, x2: x + wide / 2, y1: TOP, y2: FOOT });
      const bar = el(group, "rect", { class: "solid", x, y: FOOT, width: wide, height: 0 });
      const top = el(group, "line", { class: over ? "bad" : "stem", x1: x, x2: x + wide, y1: y(row.peak), y2: y(row.peak) });
      el(svg, "text", { x: x + wide / 2, y: 9, "text-anchor": "middle", class: over ? "trouble" : "" }, row.peak > -120 ? minus(row.peak, 0) : "–");
      el(svg, "text", { x: x + wide / 2 + 3, y: FOOT + 10, "text-anchor": "end", transform: `rotate(-38 ${x + wide / 2 + 3} ${FOOT + 10})` }, row.label);
      x += step;
      return { bar, top, peaks: row.peaks, most: row.peak, held: LOWEST, since: 0 };
    });
  }

  const mine = here();
  function follow(now) {
    if (mine.aborted) return;
    if (found && player.playing) {
      const n = Math.floor((player.position() - start) / bench.rate / found.step_s);
      for (const one of n === shown ? [] : bars) {
        const db = one.peaks[n] ?? LOWEST;
        if (db >= one.held || now - one.since > HOLD_MS) [one.held, one.since] = [db, now];
        one.bar.setAttribute("y", y(db));
        one.bar.setAttribute("height", FOOT - y(db));
        one.top.setAttribute("y1", y(one.held));
        one.top.setAttribute("y2", y(one.held));
      }
      shown = n;
    }
    requestAnimationFrame(follow);
  }

  let soon = 0;
  const again = () => { clearTimeout(soon); soon = setTimeout(load, 700); };
  on("loop", again);
  on("kept", again);
  on("swapped", again);
  on("playing", (is) => {
    if (is) return;
    for (const one of bars) {
      one.bar.setAttribute("height", 0);
      one.top.setAttribute("y1", y(one.most));
      one.top.setAttribute("y2", y(one.most));
    }
  });
  again();
  requestAnimationFrame(follow);
}
