// Sweep to find: a narrow boost of the band in hand follows the mouse or the arrows, to hear what rings. What it
// boosts is taken off the output, so that nothing becomes louder. Enter or a click makes a cut there; Escape ends it.
import { bench, dropTry, here, keepValues, on, tell, tryValues, valueAt } from "../../js/bench.js";

const STEP = 2 ** (1 / 24), SOON_MS = 120;
const LOW = 60, HIGH = 12000, NEAR = 0.04;

export function startSweep(curve) {
  const button = document.getElementById("sweep");
  if (!button) return;
  const said = document.getElementById("swept"), sweep = JSON.parse(button.dataset.sweep);
  let hz = 0, soon = 0;
  const isOn = () => hz > 0;

  function move(to) {
    hz = Math.min(Math.max(to, LOW), HIGH);
    tryValues({ ...sweep.tries, [sweep.path]: Number(hz.toPrecision(4)) });
    const known = curve.picture?.landmarks.find((one) => Math.abs(one.hz / hz - 1) < NEAR);
    said.textContent = `${Math.round(hz)} Hz${known ? `: ${known.name} here` : ""} · Enter or click: cut it · Esc: end`;
    clearTimeout(soon);
    soon = setTimeout(() => tell("sound"), SOON_MS);
  }
  function begin() {
    button.setAttribute("aria-pressed", "true");
    move(valueAt(bench.sheet, sweep.path));
  }
  function end() {
    clearTimeout(soon);
    hz = 0;
    button.setAttribute("aria-pressed", "false");
    said.textContent = "";
    dropTry();
  }
  function cut() {
    const at = Number(hz.toPrecision(4));
    end();
    keepValues({ ...sweep.cuts, [sweep.path]: at });
  }
  button.addEventListener("click", () => {
    if (!isOn()) begin();
    else { end(); tell("sound"); }
  });
  curve.svg.addEventListener("pointermove", (event) => {
    if (isOn()) move(curve.hzAt(((event.clientX - curve.svg.getBoundingClientRect().left) / curve.svg.getBoundingClientRect().width) * curve.width));
  });
  curve.svg.addEventListener("click", (event) => { if (isOn()) { event.stopPropagation(); cut(); } }, true);
  document.addEventListener("keydown", (event) => {
    if (!isOn()) return;
    const way = { ArrowRight: STEP, ArrowLeft: 1 / STEP }[event.key];
    if (way) move(hz * way);
    else if (event.key === "Enter") cut();
    else if (event.key === "Escape") { end(); tell("sound"); }
    else return;
    event.preventDefault();
    event.stopPropagation();
  }, { signal: here(), capture: true });
  on("loop", () => { if (isOn()) end(); });
}
