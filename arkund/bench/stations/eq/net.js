// All EQs on a mic's way to the mix as one curve. Asked for when it is opened, and again after a change.
import { getJson } from "../../js/api.js";
import { address, bench, keepValues, on, query } from "../../js/bench.js";
import { clear, el, familyOf, levels, path } from "../../js/draw.js";

const LEFT = 36, RIGHT = 560, TOP = 10, FOOT = 150, MOST_DB = 18;
const LINES = [50, 100, 200, 500, 1000, 2000, 5000, 10000];
const DASHES = ["2 2", "6 3", "10 4"];

export function startNet() {
  const holder = document.getElementById("net");
  if (!holder) return;
  const said = document.getElementById("net-said"), merging = document.getElementById("net-merges"), apply = document.getElementById("net-pink");
  let pink = null;
  async function load() {
    if (!holder.open) return;
    try {
      const found = await getJson(`${address("net/")}?${query()}`);
      said.textContent = found.said.join(" ");
      ({ pink } = found);
      merging.replaceChildren(...found.merges.map(offered));
      apply.hidden = !pink;
      draw(found);
    } catch (error) {
      said.textContent = error.message;
    }
  }
  holder.addEventListener("toggle", load);
  on("kept", load);
  apply.addEventListener("click", () => keepValues(pink));
}

function offered({ words, patch }) {
  const button = document.createElement("button");
  button.type = "button";
  button.className = "press";
  button.textContent = words;
  button.addEventListener("click", () => keepValues(patch));
  return button;
}

function draw({ hz, channels, total }) {
  const svg = clear(document.getElementById("net-picture"));
  const x = (f) => LEFT + (Math.log(f / hz[0]) / Math.log(hz.at(-1) / hz[0])) * (RIGHT - LEFT);
  const y = (db) => TOP + ((MOST_DB - Math.min(Math.max(db, -MOST_DB), MOST_DB)) / (2 * MOST_DB)) * (FOOT - TOP);
  levels(svg, y, [12, 6, 0, -6, -12], LEFT, RIGHT);
  for (const f of LINES) {
    el(svg, "line", { class: "gridline", x1: x(f), x2: x(f), y1: TOP, y2: FOOT });
    el(svg, "text", { x: x(f), y: FOOT + 13, "text-anchor": "middle" }, f >= 1000 ? `${f / 1000}k` : f);
  }
  const points = (values) => path(values.map((v, n) => [x(hz[n]), y(v)]));
  channels.forEach((one, n) => {
    el(svg, "path", { class: "inkline", opacity: 0.7, "stroke-dasharray": DASHES[n % 3], d: points(one.gain) });
    legend(svg, n, "inkline", DASHES[n % 3], one.name);
  });
  el(svg, "path", { class: `line ${familyOf(bench.piece)}`, d: points(total) });
  legend(svg, channels.length, `line ${familyOf(bench.piece)}`, "", "together");
}

function legend(svg, n, cls, dashes, words) {
  const at = TOP + 12 + n * 15;
  el(svg, "line", { class: cls, "stroke-dasharray": dashes, x1: RIGHT + 12, x2: RIGHT + 36, y1: at - 3, y2: at - 3 });
  el(svg, "text", { x: RIGHT + 42, y: at }, words);
}
