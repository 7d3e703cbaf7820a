// Align: hits laid over each other, the lag curve, the pairs, the proposal.
import { notify, post } from "../../js/api.js";
import { address, bench, keepTry, keepValues, on, tryValues, valueAt } from "../../js/bench.js";
import { clear, el, familyOf, minus, path } from "../../js/draw.js";
import { again } from "../../js/visit.js";

export function start() {
  let shown = null;
  const shift = startShifting(() => shown);
  on("picture", (picture) => {
    shown = picture;
    drawHits(picture);
    drawLag(picture.curve);
    fillSums(picture.sums);
    fillPairs(picture.pairs);
    drawMatrix(picture.matrix);
    askRooms(picture.room);
  });
  return shift;
}

// A triangle: below the diagonal every two mics that hear a piece together. A square leads to its mic.
function drawMatrix({ mics, cells }) {
  const svg = clear(document.getElementById("matrix"));
  const size = Math.min(26, 300 / mics.length), wide = Math.min(2 * size, 610 / mics.length), left = 4;
  svg.setAttribute("viewBox", `0 0 700 ${mics.length * size + 8}`);
  mics.forEach((one, n) => {
    const chosen = one.mic === bench.mic ? "strong" : "";
    // A name on the diagonal is its row's, to the left, and its column's, below.
    el(svg, "text", { x: left + n * wide + 5, y: (n + 0.65) * size, class: chosen }, one.label);
  });
  for (const cell of cells) {
    const { row, column } = cell;
    const to = el(svg, "a", { href: `?${new URLSearchParams({ mic: cell.mic, bars: bench.loop.join("-") })}` });
    const x = left + column * wide, y = row * size;
    el(to, "title", {}, `${mics[row].label} against ${mics[column].label}, on ${cell.piece}`);
    el(to, "rect", { class: `pair${cell.same ? "" : " opposite"}`, x: x + 1, y: y + 1, width: wide - 2, height: size - 2 });
    el(to, "text", { x: x + wide - 5, y: y + size * 0.65, "text-anchor": "end", class: cell.sure ? (Math.abs(cell.later) > 1 || !cell.same ? "strong" : "") : "faint" }, minus(cell.later, 0));
  }
}

// Whether rooms are drawn in is the school's to say, and each engineer's.
function askRooms(room) {
  const holder = document.getElementById("room-question");
  holder.hidden = !room;
  if (!room) return;
  document.getElementById("room-far").textContent = room.ms === null
    ? "how far behind is not sure" : `${minus(room.ms)} ms behind the overheads, ${minus(room.m)} m`;
  holder.querySelectorAll("button").forEach((button) => {
    button.setAttribute("aria-pressed", String(button.dataset.answer === room.answer));
    button.onclick = async () => {
      try {
        await post(address("school/"), { row: "rooms", answer: button.dataset.answer });
        const path = `mics.${bench.mic}.delay_samples`;
        if (button.dataset.answer === "late") await keepValues({ [path]: 0 });
        else if (room.drawn_in !== null) await keepValues({ [path]: room.drawn_in });
        again();
      } catch (error) {
        notify(error.message);
      }
    };
  });
}

// A mic is shifted by hand: dragged, or by keys. It rests on whole samples, and near to where it meets
// the other mic there.
const REST = 4;
function startShifting(picture) {
  const svg = document.getElementById("hits");
  const path = `mics.${bench.mic}.delay_samples`, flip = `mics.${bench.mic}.polarity`;
  const now = (of) => bench.patch[of] ?? valueAt(bench.sheet, of);
  const wanted = () => picture()?.rulers[path]?.proposed;
  const later = () => { clearTimeout(later.timer); later.timer = setTimeout(keepTry, 500); };

  svg.addEventListener("pointerdown", (event) => {
    if (!picture()?.lines.some((line) => line.chosen)) return;
    event.preventDefault();
    svg.focus();
    svg.setPointerCapture(event.pointerId);
    const [from, to] = picture().span_ms;
    const start = now(path), perPixel = ((to - from) / 1000) * bench.rate / (svg.clientWidth * (676 / 700));
    const line = svg.querySelector(".chosen-line");
    let value = start;
    const move = (e) => {
      value = Math.round(start + (e.clientX - event.clientX) * perPixel);
      if (wanted() !== undefined && Math.abs(value - wanted()) <= REST) value = wanted();
      line?.setAttribute("transform", `translate(${((value - start) / bench.rate) * 1000 * (676 / (to - from))} 0)`);
      document.getElementById("shifting").textContent = `${minus(value, value % 1 ? 1 : 0)} samples`;
    };
    const stop = () => {
      svg.removeEventListener("pointermove", move);
      svg.removeEventListener("pointerup", drop);
      document.removeEventListener("keydown", leave, true);
    };
    const drop = () => { stop(); if (value !== start) keepValues({ [path]: value }); };
    const leave = (e) => { if (e.key === "Escape") { stop(); drawHits(picture()); } };
    svg.addEventListener("pointermove", move);
    svg.addEventListener("pointerup", drop);
    document.addEventListener("keydown", leave, true);
  });
  svg.addEventListener("keydown", (event) => {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (!by) return;
    event.preventDefault();
    event.stopPropagation();
    tryValues({ [path]: now(path) + by * (event.shiftKey ? 10 : 1) });
    later();
  });
  return { flip: () => keepValues({ [flip]: -now(flip) }) };
}

function drawHits(picture) {
  const svg = clear(document.getElementById("hits"));
  if (!picture.lines.length) {
    el(svg, "text", { x: 20, y: 40, class: "strong" }, "No hit to show: this is not a close mic.");
    return;
  }
  const [from, to] = picture.span_ms;
  const x = (ms) => 12 + ((ms - from) / (to - from)) * 676;
  const y = (v) => 118 - v * 96;
  for (let ms = Math.ceil(from); ms <= to; ms += 1) {
    el(svg, "line", { class: ms === 0 ? "zero" : "gridline", x1: x(ms), x2: x(ms), y1: 14, y2: 222 });
    el(svg, "text", { x: x(ms), y: 234, "text-anchor": "middle" }, ms === 0 ? "hit" : `${ms} ms`);
  }
  el(svg, "line", { class: "zero", x1: 12, x2: 688, y1: y(0), y2: y(0) });
  // A drum has its colour here too: the mic in hand in a full line, its others dashed, what hears the kit faint.
  const dashes = ["dashed", "dotted"];
  picture.lines.forEach((line, i) => {
    const family = familyOf(line.piece), dash = line.chosen || !line.piece ? "" : dashes.shift() || "dotted";
    const shade = `${family} ${dash}`;
    const points = (values) => path(values.map((v, n) => [x(from + (n / values.length) * (to - from)), y(v)]));
    el(svg, "path", { class: `line thin ${shade}`, d: points(line.before), opacity: 0.45 });
    el(svg, "path", { class: `line ${shade}${line.chosen ? " chosen-line" : ""}`, d: points(line.after) });
    const left = 12 + i * 130;
    el(svg, "path", { class: `line ${shade}`, d: `M${left} 244h22` });
    el(svg, "text", { x: left + 28, y: 248, class: line.chosen ? "strong" : "" }, line.label);
  });
  el(svg, "text", { id: "shifting", class: "strong", x: 688, y: 24, "text-anchor": "end" });
}

function drawLag(curve) {
  const svg = clear(document.getElementById("lag"));
  if (!curve) return;
  const low = Math.min(...curve.lags), high = Math.max(...curve.lags);
  const x = (lag) => 12 + ((lag - low) / (high - low)) * 406;
  const y = (v) => 60 - v * 46;
  el(svg, "line", { class: "zero", x1: 12, x2: 418, y1: y(0), y2: y(0) });
  for (let lag = Math.ceil(low / 200) * 200; lag <= high; lag += 200) {
    el(svg, "line", { class: "gridline", x1: x(lag), x2: x(lag), y1: 10, y2: 112 });
    el(svg, "text", { x: x(lag), y: 124, "text-anchor": "middle" }, minus(lag, 0));
  }
  el(svg, "path", { class: "inkline", d: path(curve.values.map((v, i) => [x(curve.lags[i]), y(v)])) });
  el(svg, "line", { class: "stem", x1: x(curve.delay), x2: x(curve.delay), y1: 6, y2: 112 });
  const right = x(curve.delay) > 240;
  el(svg, "text", { class: "strong", x: x(curve.delay) + (right ? -5 : 5), y: 16, "text-anchor": right ? "end" : "start" }, `arrives ${minus(curve.delay)} · left now ${minus(curve.now)}`);
}

function fillSums(sums) {
  const body = document.querySelector("#sums tbody"), said = document.getElementById("notches");
  body.replaceChildren();
  said.textContent = "";
  if (!sums) return;
  for (const [name, values] of sums.rows) {
    const row = body.insertRow();
    row.insertCell().textContent = name;
    values.forEach((value, i) => {
      const cell = row.insertCell();
      cell.textContent = minus(value);
      cell.className = `fig${value === Math.max(...sums.rows.map(([, v]) => v[i])) ? " text-applied" : ""}`;
    });
  }
  said.textContent = sums.notches_hz.length
    ? `${minus(sums.apart_ms, 2)} ms apart now: cancels at ${sums.notches_hz.map((hz) => `${Math.round(hz)}`).join(", ")} Hz` : "In step now: no notches.";
}

function fillPairs(pairs) {
  const body = document.querySelector("#pairs tbody");
  body.replaceChildren();
  for (const p of pairs) {
    const row = body.insertRow();
    if (p.chosen) row.className = "chosen";
    const cells = [p.mic_label, p.reference_label, p.piece.replace("_", " "), minus(p.delay_samples), minus(p.ms, 2), minus(p.cm, 0), minus(p.left_samples),
      p.standing, minus(p.best_shift_samples, 0), `${minus(p.gain_low_db)} dB`, `±${minus(p.spread_samples)}`, p.sure ? "sure" : "doubtful"];
    cells.forEach((text, i) => {
      const cell = row.insertCell();
      cell.textContent = text;
      if ([3, 4, 5, 6, 8, 9, 10].includes(i)) cell.className = "fig";
      if (text === "opposite" || text === "doubtful") cell.className = "text-trouble font-semibold";
    });
  }
}
