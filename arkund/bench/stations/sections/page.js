// Sections: the song's and those found, what differs over bars, and figures side by side.
import { getJson, getPage } from "../../js/api.js";
import { address, bench, here, keepValues, on, query, setLoop } from "../../js/bench.js";
import { startDifferences } from "../../js/differences.js";
import { clear, el, minus } from "../../js/draw.js";
import { barsOf, spansOf, whereAlike } from "../../js/spans.js";
import { again } from "../../js/visit.js";

const HIGH = 64, OWN = [4, 22], FOUND = [32, 22];

export function start() {
  const form = document.getElementById("form"), accept = document.getElementById("accept");
  let found = [];
  const change = (patch) => keepValues(patch).then(again);
  const draw = () => drawForm(form, found);
  startDifferences(change);
  accept?.addEventListener("click", () => change(JSON.parse(accept.dataset.offer)));
  document.querySelectorAll("[data-again]").forEach((button) => button.addEventListener("click", () => {
    const spans = whereAlike(spansOf(button.dataset.bars), found);
    change({ [`${button.dataset.again}.bars`]: barsOf(spans) });
  }));
  addEventListener("resize", draw, { signal: here() });
  on("kept", (sheet) => { if (sheet) draw(); });
  getJson(`${address("picture/sections/")}?${query()}`).then((picture) => { found = picture.found; draw(); });
  sideBySide();
  startInTheSong();
  return { accept: () => accept?.click() };
}

// Asked for when it is opened: the whole song is rendered for it.
function startInTheSong() {
  const holder = document.getElementById("in-the-song");
  holder?.addEventListener("toggle", async () => {
    if (!holder.open) return;
    const body = holder.querySelector("div");
    try {
      body.innerHTML = await getPage(`${address("in-the-song/")}?${query()}`);
    } catch (error) {
      body.textContent = error.message;
    }
  });
}

function drawForm(svg, found) {
  clear(svg);
  const width = svg.clientWidth || 600, x = (bar) => ((bar - 1) / bench.bars) * width;
  svg.setAttribute("viewBox", `0 0 ${width} ${HIGH}`);
  const block = (one, [top, high], words, called, cls) => {
    const left = x(one.first), wide = Math.max(x(one.last + 1) - left - 1, 2);
    const group = el(svg, "g", { class: `part-block ${cls}`, tabindex: 0, role: "button", "aria-label": called });
    el(group, "title", {}, called);
    el(group, "rect", { x: left, y: top, width: wide, height: high });
    if (wide > 22) el(group, "text", { x: left + 4, y: top + 15 }, words.slice(0, Math.floor(wide / 6.2)));
    const hear = () => { setLoop(one.first, one.last); document.getElementById("evidence").textContent = called; };
    group.addEventListener("click", hear);
    group.addEventListener("keydown", (event) => { if (event.key === "Enter") hear(); });
  };
  bench.sections.forEach((s, n) => {
    const last = s.start_bar + s.bars - 1;
    block({ first: s.start_bar, last }, OWN, s.name, `${s.name}, bars ${s.start_bar} to ${last}`, n % 2 ? "odd" : "");
  });
  for (const one of found) {
    const words = one.evidence ? `: ${one.evidence}` : "";
    block(one, FOUND, `${one.letter} ${one.name}`, `${one.letter}, ${one.name}, bars ${one.first} to ${one.last}${words}`, "found");
  }
}

async function sideBySide() {
  const body = document.querySelector("#side-by-side tbody");
  if (!body) return;
  const { sections } = await getJson(`${address("side-by-side/")}?${query()}`);
  body.replaceChildren(...sections.map((one) => {
    const row = document.createElement("tr");
    const shown = [one.name, one.bars, ...[one.loudness_lufs, one.peak_dbfs, one.peak_over_loudness_db, one.hits_a_bar].map((v) => minus(v)), one.ghosts_db === null ? "–" : minus(one.ghosts_db)];
    shown.forEach((text, n) => { const cell = row.insertCell(); cell.textContent = text; cell.className = n > 1 ? "fig" : "whitespace-nowrap"; });
    return row;
  }));
}
