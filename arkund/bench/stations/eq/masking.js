// A drum's mics stacked over frequency, what they gain or lose together, and what else lies there while it is hit.
// Asked for when it is opened, and again after a change.
import { getJson } from "../../js/api.js";
import { address, keepValues, on, query } from "../../js/bench.js";
import { clear, el, label, minus, path } from "../../js/draw.js";

const LEFT = 40, RIGHT = 560, TOP = 14, SHARES = 104, TOGETHER = 176, OTHERS = 260;
const FADED = [0.85, 0.5, 0.25, 0.12];

export function startMasking() {
  const holder = document.getElementById("masking");
  if (!holder) return;
  const said = document.getElementById("masking-said"), apply = document.getElementById("masking-apply");
  let patch = null;
  async function load() {
    if (!holder.open) return;
    try {
      const found = await getJson(`${address("masking/")}?${query({ piece: holder.dataset.piece })}`);
      said.textContent = found.said.join(" ") || "Nothing masks this drum.";
      patch = found.hand_over?.patch || null;
      apply.hidden = !patch;
      draw(found);
    } catch (error) {
      said.textContent = error.message;
    }
  }
  holder.addEventListener("toggle", load);
  on("kept", load);
  apply.addEventListener("click", () => keepValues(patch));
}

function draw(found) {
  const svg = clear(document.getElementById("masking-picture")), { hz } = found;
  const x = (n) => LEFT + (n / (hz.length - 1)) * (RIGHT - LEFT);
  hz.forEach((one, n) => {
    if (n % 3) return;
    el(svg, "line", { class: "gridline", x1: x(n), x2: x(n), y1: TOP, y2: OTHERS });
    el(svg, "text", { x: x(n), y: OTHERS + 14, "text-anchor": "middle" }, one >= 1000 ? `${Math.round(one / 1000)}k` : Math.round(one));
  });
  // Shares, stacked from the bottom up.
  let under = hz.map(() => 0);
  Object.entries(found.share).forEach(([mic, share], k) => {
    const over = under.map((v, n) => v + share[n]), y = (v) => SHARES - v * (SHARES - TOP);
    const line = (values) => values.map((v, n) => [x(n), y(v)]);
    el(svg, "path", { class: "own-share", opacity: FADED[k % 4], d: `${path(line(over))}${path(line(under).reverse()).replace("M", "L")}z` });
    el(svg, "rect", { class: "own-share", opacity: FADED[k % 4], x: RIGHT + 12, y: TOP + k * 16, width: 10, height: 10 });
    el(svg, "text", { x: RIGHT + 27, y: TOP + 9 + k * 16 }, label(mic));
    under = over;
  });
  band(svg, "mics together, dB", SHARES + 16, TOGETHER, [-9, 6], [[found.together_db, "inkline", ""]], x);
  const others = Object.entries(found.others_db).map(([name, over], k) => [over, "inkline", k ? `${2 + 2 * k} ${2 + k}` : "", label(name)]);
  band(svg, "over the drum, dB", TOGETHER + 22, OTHERS, [-40, 10], others, x);
}

// Lines between two levels, with a line at 0 dB and their names beside.
function band(svg, words, top, bottom, [low, high], lines, x) {
  const y = (db) => bottom - ((Math.min(Math.max(db, low), high) - low) / (high - low)) * (bottom - top);
  el(svg, "line", { class: "zero", x1: LEFT, x2: RIGHT, y1: y(0), y2: y(0) });
  for (const db of [low, 0, high]) el(svg, "text", { x: LEFT - 5, y: y(db) + 3, "text-anchor": "end" }, minus(db, 0));
  el(svg, "text", { x: RIGHT + 12, y: top + 8 }, words);
  lines.forEach(([values, cls, dashes, name], k) => {
    el(svg, "path", { class: cls, "stroke-dasharray": dashes, d: path(values.map((v, n) => [x(n), y(v)])) });
    if (!name) return;
    const at = top + 22 + k * 13;
    el(svg, "line", { class: cls, "stroke-dasharray": dashes, x1: RIGHT + 12, x2: RIGHT + 32, y1: at - 3, y2: at - 3 });
    el(svg, "text", { x: RIGHT + 37, y: at }, name);
  });
}
