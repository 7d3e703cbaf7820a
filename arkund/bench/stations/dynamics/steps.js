// A compressor step by step: what each control does to the hits of the loop, with ways to set it.
import { getJson } from "../../js/api.js";
import { address, bench, keepValues, loopFrames, on, query } from "../../js/bench.js";
import { openLadder } from "../../js/ladder.js";

const SOON_MS = 300;
let latest = 0;

export function startSteps() {
  const section = document.querySelector("[data-steps]");
  if (!section) return;
  const body = section.querySelector("tbody");
  let soon = 0;
  const later = () => { clearTimeout(soon); soon = setTimeout(() => show(section.dataset.steps, body), SOON_MS); };
  for (const name of ["kept", "stepped", "loop"]) on(name, later);
  later();
}

async function show(path, body) {
  const mine = ++latest, [start, stop] = loopFrames();
  try {
    const span = { start, frames: Math.min(stop - start, 190 * bench.rate) };
    const { steps } = await getJson(`${address("steps/")}?${query({ path, patch: "", ...span })}`);
    if (mine === latest) body.replaceChildren(...steps.map(row));
  } catch { /* the next change asks again */ }
}

function row({ path, what, said, ways }) {
  const line = document.createElement("tr");
  const [name, words, last] = [0, 1, 2].map(() => line.insertCell()), more = document.createElement("div");
  last.append(more);
  name.textContent = what;
  words.textContent = said;
  more.className = "acts";
  more.append(press("ladder", () => openLadder(path), `Ladder of ${what}`));
  for (const way of ways) more.append(press(way.words, () => keepValues(way.patch)));
  return line;
}

function press(words, run, called = "") {
  const button = document.createElement("button");
  button.type = "button";
  button.className = "act";
  button.textContent = words;
  if (called) button.setAttribute("aria-label", called);
  button.addEventListener("click", run);
  return button;
}
