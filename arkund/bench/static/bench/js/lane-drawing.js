// What stands on the lanes: bars and sections, names, early and late, hits.
import { barAt, barStart, bench, loopFrames } from "./bench.js";
import { colour, familyOf, label, outline } from "./draw.js";
import { NAMES, TIMING, TOP } from "./lane-view.js";

const CROWD = 1200; // hits in view from which on points stand for shapes
const MONO = "10px 'Spline Sans Mono'";
const FAMILIES = ["kick", "snare", "tom", "metal", "ambience"];

// The colours as the theme has them now.
export function paints() {
  const out = { ink: colour("ink"), quiet: colour("ink-2"), hair: colour("hairline"), ground: colour("ground"), panel: colour("panel"), wash: colour("wash"), proposed: colour("proposed"), trouble: colour("trouble") };
  for (const family of FAMILIES) out[family] = colour(family);
  return out;
}

export function drawSections(pen, view, paint) {
  pen.font = MONO;
  bench.sections.forEach((s, i) => {
    const from = Math.max(view.x(barStart(s.start_bar) * bench.rate), NAMES);
    const to = Math.min(view.x(barStart(s.start_bar + s.bars) * bench.rate), view.width);
    if (to <= from) return;
    pen.fillStyle = i % 2 ? paint.hair : paint.wash;
    pen.fillRect(from, 0, to - from - 1, 12);
    pen.fillStyle = paint.quiet;
    pen.fillText(s.name, from + 4, 9);
  });
}

// Bar lines, every so many of them with its number; beats where there is room.
export function drawBars(pen, view, paint) {
  const first = Math.max(1, Math.floor(barAt(view.start / bench.rate)));
  const last = Math.min(bench.bars + 1, Math.ceil(barAt(view.stop / bench.rate)) + 1);
  const perBar = ((barStart(first + 1) - barStart(first)) * bench.rate * view.across) / view.span;
  const step = perBar > 30 ? 1 : perBar > 8 ? 4 : 8;
  for (let n = first; n <= last; n += 1) {
    const at = view.x(barStart(n) * bench.rate);
    if (at < NAMES || at > view.width) continue;
    const numbered = (n - 1) % step === 0;
    pen.fillStyle = numbered ? paint.quiet : paint.hair;
    pen.globalAlpha = numbered ? 0.55 : 0.7;
    pen.fillRect(at, 14, 1, view.height);
    pen.globalAlpha = 1;
    if (numbered) pen.fillText(String(n), at + 3, 23);
    if (perBar <= 120) continue;
    pen.fillStyle = paint.hair;
    for (let k = 1; k < bench.beats; k += 1) pen.fillRect(view.x(barStart(n + k / bench.beats) * bench.rate), TOP, 1, view.height);
  }
}

export function drawLoop(pen, view, paint) {
  const [from, to] = loopFrames().map((frame) => view.x(frame));
  pen.fillStyle = paint.proposed;
  pen.globalAlpha = 0.06;
  pen.fillRect(Math.max(from, NAMES), 14, Math.min(to, view.width) - Math.max(from, NAMES), view.height);
  pen.globalAlpha = 1;
}

export function drawNames(pen, view, paint) {
  bench.mics.forEach((mic, row) => {
    const own = mic === bench.mic;
    if (own) {
      pen.fillStyle = paint.panel;
      pen.fillRect(NAMES, TOP + row * view.laneHeight, view.across, view.laneHeight);
    }
    pen.fillStyle = paint.hair;
    pen.fillRect(NAMES, view.middle(row) - 0.5, view.across, 1);
    pen.fillStyle = own ? paint.ink : paint.quiet;
    pen.font = `${own ? 600 : 400} 11px Archivo`;
    pen.fillText(label(mic), 4, view.middle(row) + 4);
  });
}

// Late is up; the grid is the zero line, the drum in hand's usual place a soft band.
export function drawTiming(pen, view, hits, paint) {
  const { most, feel, chosen } = hits;
  const zero = 24 + (TIMING - 24) / 2, scale = (TIMING - 34) / 2 / most;
  const y = (ms) => zero - Math.max(-most, Math.min(most, ms)) * scale;
  pen.font = MONO;
  for (const ms of [-most, -most / 2, 0, most / 2, most]) {
    pen.fillStyle = ms ? paint.hair : paint.quiet;
    pen.fillRect(NAMES, y(ms), view.across, 1);
    pen.fillStyle = paint.quiet;
    pen.fillText(ms === most ? `${ms} ms late` : ms === -most ? `${-ms} ms early` : String(Math.abs(ms)), 4, y(ms) + 3);
  }
  if (feel) {
    pen.globalAlpha = 0.14;
    pen.fillStyle = paint[familyOf(bench.piece)];
    pen.fillRect(NAMES, zero - feel.high_ms * scale, view.across, Math.max((feel.high_ms - feel.low_ms) * scale, 2));
    pen.globalAlpha = 1;
  }
  const some = hits.inView(view), crowd = some.length > CROWD;
  for (const hit of some) {
    const at = view.x(hit.t * bench.rate), isChosen = chosen.includes(hit), family = familyOf(hit.piece);
    if (at < NAMES) continue;
    if (hit.moved_ms) {
      pen.strokeStyle = paint[family];
      pen.globalAlpha = 0.5;
      pen.beginPath();
      pen.moveTo(at, y(hit.late_ms));
      pen.lineTo(view.x((hit.t - hit.moved_ms / 1000) * bench.rate), y(hit.late_ms - hit.moved_ms));
      pen.stroke();
    }
    pen.globalAlpha = !bench.piece || hit.piece === bench.piece || isChosen ? 1 : 0.35;
    pen.fillStyle = paint[family];
    if (crowd && !isChosen) pen.fillRect(at - 1, y(hit.late_ms) - 1, 2, 2);
    else stamp(pen, family, at, y(hit.late_ms), isChosen ? 6 : hit.kind === "ghost" ? 2.2 : 3.2);
    pen.globalAlpha = 1;
  }
}

// Hits on their lanes; one that is dragged stands where the pointer has it. Where they stand closer
// than a pixel to one of their row, one mark serves for them.
export function drawHits(pen, view, hits, drag, paint) {
  const lastAt = {};
  for (const hit of hits.inView(view)) {
    const isChosen = hits.chosen.includes(hit);
    const at = drag && drag.hit === hit && drag.moved ? drag.at : view.x(hit.t * bench.rate);
    if (at - lastAt[hit.piece] < 1.5 && !isChosen) continue;
    lastAt[hit.piece] = at;
    const row = hits.rowOf(hit.piece);
    if (at < NAMES - 4 || at > view.width + 4 || row < 0) continue;
    const r = isChosen ? 6 : hit.kind === "ghost" ? 2.4 : hit.kind === "accent" ? 4.2 : 3.3;
    pen.fillStyle = paint[familyOf(hit.piece)];
    pen.strokeStyle = paint.ground;
    pen.lineWidth = 1;
    stamp(pen, familyOf(hit.piece), at, TOP + row * view.laneHeight + 5, r, true);
    if (isChosen && hits.chosen.length === 1) {
      pen.fillStyle = paint.ink;
      pen.fillRect(at - 0.5, TOP, 1, view.height - TOP);
    }
  }
}

// A piece's shape: its outline is made once a size and only put to its place.
const shapes = {};
function stamp(pen, family, at, y, r, edged) {
  const shape = (shapes[`${family} ${r}`] ??= new Path2D(outline(family, 0, 0, r)));
  pen.translate(at, y);
  pen.fill(shape);
  if (edged) pen.stroke(shape);
  pen.translate(-at, -y);
}
