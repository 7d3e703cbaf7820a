// Level: one row a mic, the spread of its hit peaks.
import { getJson, notify, post } from "../../js/api.js";
import { bench, moveTo, on, tell } from "../../js/bench.js";
import { clear, el, familyOf, mark, minus } from "../../js/draw.js";
import { startReadings } from "./readings.js";

export function start() {
  startCarries();
  startTogether();
  startReadings();
  const hit = startHit();
  on("picture", ({ rows, target, hits }) => {
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
        const own = row.chosen ? hits[n] : null;
        const dot = el(group, "circle", { class: `${db > 0 ? "bad" : "dot"}${own?.gain_db ? " mended" : ""}`, cx: x(db), cy: y + ((n * 7) % 11 - 5) * 0.7, r: own ? 2.6 : 1.9 });
        if (own) hit.offer(dot, own, db);
      });
      el(group, "line", { class: "stem", x1: x(row.typical), x2: x(row.typical), y1: y - 9, y2: y + 9 });
      el(group, "text", { x: 690, y: y + 3.5, "text-anchor": "end", class: row.chosen ? "strong" : "" }, minus(row.typical));
    });
  });
}

// One hit of the mic in hand: picked by mouse, or by the arrow keys from one to the next by level, then
// given a gain of its own.
function startHit() {
  const holder = document.getElementById("hit-gain"), field = holder.querySelector("input");
  const svg = document.getElementById("spread");
  let offered = [], chosen = null;
  function show() {
    for (const one of offered) one.dot.classList.toggle("picked", one.hit.id === chosen?.hit.id);
    holder.hidden = !chosen;
    if (!chosen) return;
    document.getElementById("hit-said").textContent = `${chosen.hit.piece} in bar ${chosen.hit.bar} peaks at ${minus(chosen.db)} dBFS`;
    field.value = chosen.hit.gain_db;
  }
  async function keep(gain) {
    try {
      moveTo(await post(holder.dataset.to, { base: bench.revision, mic: bench.mic, hit: chosen.hit.id, gain_db: gain }));
      tell("sound");
      tell("try");
    } catch (error) {
      notify(error.message);
      show();
    }
  }
  field.addEventListener("change", () => keep(Number(field.value.replace("−", "-"))));
  field.addEventListener("keydown", (event) => {
    const by = { ArrowUp: 0.5, ArrowDown: -0.5 }[event.key];
    if (!by) return;
    event.preventDefault();
    field.value = Number(field.value.replace("−", "-")) + by;
  });
  holder.querySelector("button").addEventListener("click", () => keep(0));
  svg.tabIndex = 0;
  svg.addEventListener("keydown", (event) => {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (event.key === "Enter" && chosen) { field.focus(); field.select(); return; }
    if (!by || !offered.length) return;
    event.preventDefault();
    event.stopPropagation();
    const ladder = offered.toSorted((a, b) => a.db - b.db);
    const at = ladder.findIndex((one) => one.hit.id === chosen?.hit.id);
    chosen = ladder[at < 0 ? ladder.length - 1 : Math.max(0, Math.min(at + by, ladder.length - 1))];
    show();
  });
  return {
    offer(dot, hit, db) {
      if (hit.id === offered[0]?.hit.id) offered = [];
      const one = { dot, hit, db };
      offered.push(one);
      if (hit.id === chosen?.hit.id) { chosen = one; show(); }
      el(dot, "title", {}, `bar ${hit.bar}${hit.gain_db ? `, ${minus(hit.gain_db)} dB` : ""}`);
      dot.addEventListener("click", () => { chosen = one; show(); });
    },
  };
}

// Who carries what: a square a mic and piece, its area the share. Asked for when it is opened, and again
// after a change.
function startCarries() {
  const holder = document.getElementById("carries"), bands = document.getElementById("carries-bands");
  let found = null, band = 3;
  async function load() {
    document.getElementById("carries-hint").textContent = "listening …";
    try {
      found = await getJson(holder.dataset.from);
    } catch (error) {
      document.getElementById("carries-hint").textContent = error.message;
      return;
    }
    document.getElementById("carries-hint").textContent = "Area: a mic's share of the piece. Number: dB the piece changes without the mic.";
    bands.replaceChildren(...found.bands.map((words, n) => {
      const button = document.createElement("button");
      button.type = "button";
      button.className = "whitespace-nowrap";
      button.textContent = words;
      button.addEventListener("click", () => { band = n; draw(); });
      return button;
    }));
    draw();
  }
  function draw() {
    bands.querySelectorAll("button").forEach((b, n) => b.setAttribute("aria-pressed", String(n === band)));
    const svg = clear(document.getElementById("carries-picture"));
    const left = 78, step = (700 - left) / Math.max(found.mics.length, 1), high = 30, top = 54;
    svg.setAttribute("viewBox", `0 0 700 ${top + found.pieces.length * high + 4}`);
    found.mics.forEach((mic, n) => {
      el(svg, "text", { x: left + (n + 0.5) * step, y: 46, transform: `rotate(-32 ${left + (n + 0.5) * step} 46)` }, mic.label);
    });
    found.pieces.forEach((piece, row) => {
      const y = top + (row + 0.5) * high, group = el(svg, "g", { class: familyOf(piece.piece) });
      mark(group, familyOf(piece.piece), 8, y, 3.4, { class: "solid" });
      el(group, "text", { x: 18, y: y + 3.5, class: "strong" }, piece.label);
      el(svg, "line", { class: "gridline", x1: left, x2: 700, y1: y + high / 2, y2: y + high / 2 });
      piece.share.forEach((share, n) => {
        const size = 24 * Math.sqrt(share[band]), x = left + (n + 0.5) * step - 14;
        if (size > 1.5) el(group, "rect", { class: "solid", x: x - size / 2, y: y - size / 2, width: size, height: size });
        const without = piece.without_db[n][band];
        if (Math.abs(without) >= 0.5) el(group, "text", { x: left + (n + 1) * step - 2, y: y + 3, "text-anchor": "end" }, minus(without));
      });
    });
    drawStage(found);
    const low = clear(document.getElementById("low-end"));
    let at = 0;
    for (const one of found.low_end) {
      const wide = one.share * 700;
      const group = el(low, "g", { class: familyOf(one.family) });
      el(group, "rect", { class: "solid", x: at, y: 4, width: Math.max(wide - 1.5, 0.5), height: 12, opacity: one.owns ? 1 : 0.45 });
      if (wide > 46) el(group, "text", { x: at, y: 30, class: one.owns ? "strong" : "" }, `${one.label} ${Math.round(one.share * 100)} %${one.owns && wide > 110 ? " · owns it" : ""}`);
      at += wide;
    }
    const said = document.getElementById("carries-said");
    said.replaceChildren(...found.said.map((words) => {
      const line = document.createElement("p");
      line.className = "mt-1";
      line.textContent = words;
      return line;
    }));
  }
  holder.addEventListener("toggle", () => { if (holder.open && !found) load(); });
  on("kept", () => { if (holder.open) load(); else found = null; });
}

// Mics trimmed together keep their relation; one that is unticked steps out.
function startTogether() {
  async function change(to, what) {
    try {
      moveTo(await post(to, { base: bench.revision, ...what }));
      tell("sound");
      tell("try");
    } catch (error) {
      notify(error.message);
    }
  }
  const holder = document.getElementById("together");
  holder?.querySelectorAll("[data-by]").forEach((button) => button.addEventListener("click", () => change(holder.dataset.to, {
    mics: [...holder.querySelectorAll("input:checked")].map((box) => box.value), by_db: Number(button.dataset.by),
  })));
  const mirror = document.getElementById("mirror");
  mirror.addEventListener("click", () => change(mirror.dataset.to, {}));
  const pair = document.getElementById("spread-pair");
  pair?.querySelectorAll("[data-what]").forEach((field) => field.addEventListener("change", () => change(pair.dataset.to, {
    mic: pair.dataset.mic, [field.dataset.what]: field.value.trim().replace("−", "-").replace(",", "."),
  })));
}

function drawStage(found) {
  const svg = clear(document.getElementById("stage"));
  const x = (side) => 350 + side * 320;
  svg.setAttribute("viewBox", `0 0 700 ${found.pieces.length * 15 + 24}`);
  for (const [side, words] of [[-1, "left"], [0, "centre"], [1, "right"]]) {
    el(svg, "line", { class: side ? "gridline" : "zero", x1: x(side), x2: x(side), y1: 4, y2: found.pieces.length * 15 + 8 });
    el(svg, "text", { x: x(side), y: found.pieces.length * 15 + 20, "text-anchor": "middle" }, words);
  }
  found.pieces.forEach((piece, row) => {
    const y = row * 15 + 12, group = el(svg, "g", { class: familyOf(piece.piece) });
    mark(group, familyOf(piece.piece), x(piece.side), y, 4, { class: "solid" });
    const right = piece.side > 0.6;
    el(group, "text", { x: x(piece.side) + (right ? -9 : 9), y: y + 3.5, "text-anchor": right ? "end" : "start", class: "strong" }, `${piece.label}  ${minus(piece.mono_db)} dB in mono`);
  });
  document.getElementById("mono-loss").textContent = `in the mix as it is; the whole changes by ${minus(found.mono_loss_lu)} LU in mono`;
}
