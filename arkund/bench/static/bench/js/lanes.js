// Stacked waveform lanes with strokes, bars and sections; zoom from the song to single samples.
import { getBytes } from "./api.js";
import { address, barAt, barStart, bench, loopFrames, on, query } from "./bench.js";
import { colour, familyOf, label, outline } from "./draw.js";
import { laneWaves } from "./lane-waves.js";
import { player } from "./player.js";

const TIMING = 128; // height of the picture of early and late above the lanes
const TOP = TIMING + 26;
const SPANS_MS = [10, 20, 40];
const NAMES = 78;
const CROWD = 1200; // strokes in view from which on points stand for shapes

const PIECE = (mic) => bench.pieces[mic] || "";

export function startLanes(onStroke, act) {
  const canvas = document.getElementById("lanes");
  const pen = canvas.getContext("2d");
  const [a, b] = loopFrames();
  const view = { start: a, stop: b };
  let hits = [];
  let data = null;
  let chosen = [], drag = null, box = null, feel = null;
  let width = 0, height = 0;
  const waves = laneWaves();

  const x = (frame) => NAMES + ((frame - view.start) / (view.stop - view.start)) * (width - NAMES);
  const frameAt = (px) => view.start + ((px - NAMES) / (width - NAMES)) * (view.stop - view.start);
  const laneHeight = () => (height - TOP) / bench.mics.length;

  function draw() {
    const ratio = devicePixelRatio || 1;
    width = canvas.clientWidth;
    height = Math.max(bench.mics.length * 16 + TOP, document.getElementById("work").clientHeight - 68);
    if (canvas.width !== width * ratio || canvas.height !== height * ratio) {
      canvas.width = width * ratio;
      canvas.height = height * ratio;
      canvas.style.height = `${height}px`;
    }
    pen.setTransform(ratio, 0, 0, ratio, 0, 0);
    pen.clearRect(0, 0, width, height);
    const ink = colour("ink"), quiet = colour("ink-2"), hair = colour("hairline");
    drawGrid(hair, quiet);
    const lane = laneHeight();
    const hues = { ground: colour("ground"), ink };
    for (const family of ["kick", "snare", "tom", "metal", "ambience"]) hues[family] = colour(family);
    const panel = colour("panel");
    bench.mics.forEach((mic, i) => {
      const middle = TOP + (i + 0.5) * lane;
      if (mic === bench.mic) {
        pen.fillStyle = panel;
        pen.fillRect(NAMES, TOP + i * lane, width - NAMES, lane);
      }
      pen.fillStyle = hair;
      pen.fillRect(NAMES, middle - 0.5, width - NAMES, 1);
      pen.fillStyle = mic === bench.mic ? ink : quiet;
      pen.font = `${mic === bench.mic ? 600 : 400} 11px Archivo`;
      pen.fillText(label(mic), 4, middle + 4);
    });
    // What was fetched is drawn where it belongs, also while its successor is on the way.
    if (data) waves(pen, data, bench.mics.map((mic) => ({ hue: hues[familyOf(PIECE(mic))], scale: 1 / 32768 / Math.max(bench.peaks[mic] || 1, 0.02) })), { x: NAMES, y: TOP, width: width - NAMES, high: lane }, x);
    drawHits(lane, hues);
    drawTiming(hues, quiet, hair);
    if (box) {
      pen.strokeStyle = ink;
      pen.strokeRect(Math.min(box.x0, box.x1), Math.min(box.y0, box.y1), Math.abs(box.x1 - box.x0), Math.abs(box.y1 - box.y0));
    }
    pen.fillStyle = colour("trouble");
    const at = x(player.position());
    if (at >= NAMES) pen.fillRect(at - 0.75, TOP, 1.5, height - TOP);
  }

  function drawGrid(hair, quiet) {
    const first = Math.max(1, Math.floor(barAt(view.start / bench.rate)));
    const last = Math.min(bench.bars + 1, Math.ceil(barAt(view.stop / bench.rate)) + 1);
    const perBar = ((barStart(first + 1) - barStart(first)) * bench.rate * (width - NAMES)) / (view.stop - view.start);
    const step = perBar > 30 ? 1 : perBar > 8 ? 4 : 8;
    pen.font = "10px 'Spline Sans Mono'";
    bench.sections.forEach((s, i) => {
      const from = Math.max(x(barStart(s.start_bar) * bench.rate), NAMES);
      const to = Math.min(x(barStart(s.start_bar + s.bars) * bench.rate), width);
      if (to <= from) return;
      pen.fillStyle = i % 2 ? hair : colour("wash");
      pen.fillRect(from, 0, to - from - 1, 12);
      pen.fillStyle = quiet;
      pen.fillText(s.name, from + 4, 9);
    });
    for (let n = first; n <= last; n += 1) {
      const at = x(barStart(n) * bench.rate);
      if (at < NAMES || at > width) continue;
      pen.fillStyle = (n - 1) % step ? hair : quiet;
      pen.globalAlpha = (n - 1) % step ? 0.7 : 0.55;
      pen.fillRect(at, 14, 1, height);
      pen.globalAlpha = 1;
      if ((n - 1) % step === 0) { pen.fillStyle = quiet; pen.fillText(String(n), at + 3, 23); }
      if (perBar > 120) {
        pen.fillStyle = hair;
        for (let k = 1; k < bench.beats; k += 1) pen.fillRect(x(barStart(n + k / bench.beats) * bench.rate), TOP, 1, height);
      }
    }
    const [from, to] = loopFrames().map(x);
    pen.fillStyle = colour("proposed");
    pen.globalAlpha = 0.06;
    pen.fillRect(Math.max(from, NAMES), 14, Math.min(to, width) - Math.max(from, NAMES), height);
    pen.globalAlpha = 1;
  }

  let most = SPANS_MS[0];

  // Late is up; the grid is the zero line, the drum in hand's usual place a soft band.
  function drawTiming(hues, quiet, hair) {
    const zero = 24 + (TIMING - 24) / 2, scale = (TIMING - 34) / 2 / most;
    pen.font = "10px 'Spline Sans Mono'";
    for (const ms of [-most, -most / 2, 0, most / 2, most]) {
      pen.fillStyle = ms ? hair : quiet;
      pen.fillRect(NAMES, zero - ms * scale, width - NAMES, 1);
      pen.fillStyle = quiet;
      const words = ms === most ? `${ms} ms late` : ms === -most ? `${-ms} ms early` : String(Math.abs(ms));
      pen.fillText(words, 4, zero - ms * scale + 3);
    }
    if (feel) {
      pen.globalAlpha = 0.14;
      pen.fillStyle = hues[familyOf(bench.piece)];
      pen.fillRect(NAMES, zero - feel.high_ms * scale, width - NAMES, Math.max((feel.high_ms - feel.low_ms) * scale, 2));
      pen.globalAlpha = 1;
    }
    const some = inView(), crowd = some.length > CROWD;
    for (const hit of some) {
      const at = x(hit.t * bench.rate);
      if (at < NAMES) continue;
      const y = (ms) => zero - Math.max(-most, Math.min(most, ms)) * scale;
      const family = familyOf(hit.piece), own = !bench.piece || hit.piece === bench.piece;
      if (hit.moved_ms) {
        pen.strokeStyle = hues[family];
        pen.globalAlpha = 0.5;
        pen.beginPath();
        pen.moveTo(at, y(hit.late_ms));
        pen.lineTo(at - hit.moved_ms * 0.001 * bench.rate * (width - NAMES) / (view.stop - view.start), y(hit.late_ms - hit.moved_ms));
        pen.stroke();
        pen.globalAlpha = 1;
      }
      pen.globalAlpha = own || chosen.includes(hit) ? 1 : 0.35;
      pen.fillStyle = hues[family];
      if (crowd && !chosen.includes(hit)) pen.fillRect(at - 1, y(hit.late_ms) - 1, 2, 2);
      else stamp(family, at, y(hit.late_ms), chosen.includes(hit) ? 6 : hit.kind === "ghost" ? 2.2 : 3.2);
      pen.globalAlpha = 1;
    }
  }

  // Strokes in view: their list is in order of time.
  function inView() {
    const first = (view.start - (view.stop - view.start) * 0.01) / bench.rate, last = view.stop / bench.rate;
    let low = 0, high = hits.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (hits[middle].t < first) low = middle + 1; else high = middle;
    }
    let end = low;
    while (end < hits.length && hits[end].t <= last) end += 1;
    return hits.slice(low, end);
  }

  // Where strokes stand closer than a pixel to one of their row, one mark serves for them.
  function drawHits(lane, hues) {
    const lastAt = {}, rows = {};
    for (const hit of inView()) {
      const at = x(hit.t * bench.rate);
      if (at - lastAt[hit.piece] < 1.5 && !chosen.includes(hit)) continue;
      lastAt[hit.piece] = at;
      rows[hit.piece] ??= rowOf(hit.piece);
      drawHit(hit, rows[hit.piece], lane, hues);
    }
  }

  function drawHit(hit, row, lane, hues) {
    const dragged = drag && drag.hit === hit && drag.moved;
    const at = dragged ? drag.at : x(hit.t * bench.rate);
    if (at < NAMES - 4 || at > width + 4 || row < 0) return;
    const y = TOP + row * lane + 5;
    const family = familyOf(hit.piece);
    const r = chosen.includes(hit) ? 6 : hit.kind === "ghost" ? 2.4 : hit.kind === "accent" ? 4.2 : 3.3;
    pen.fillStyle = hues[family];
    pen.strokeStyle = hues.ground;
    pen.lineWidth = 1;
    stamp(family, at, y, r, true);
    if (chosen.includes(hit) && chosen.length === 1) {
      pen.fillStyle = hues.ink;
      pen.fillRect(at - 0.5, TOP, 1, height - TOP);
    }
  }

  // A piece's shape: its outline is made once a size and only put to its place.
  const shapes = {};
  function stamp(family, at, y, r, edged) {
    const shape = (shapes[`${family} ${r}`] ??= new Path2D(outline(family, 0, 0, r)));
    pen.translate(at, y);
    pen.fill(shape);
    if (edged) pen.stroke(shape);
    pen.translate(-at, -y);
  }

  let busy = false, again = false, shown = "";
  async function load() {
    if (busy) { again = true; return; }
    busy = true;
    do {
      again = false;
      const columns = Math.max(64, Math.round(width - NAMES));
      const span = view.stop - view.start;
      const start = Math.round(view.start - span * 0.25), frames = Math.round(span * 1.5);
      const wide = Math.round(columns * 1.5);
      const text = query({ start, frames, columns: wide, mics: bench.mics.join(",") });
      if (text === shown) continue;
      try {
        const { bytes } = await getBytes(`${address("lanes/")}?${text}`);
        shown = text;
        data = { columns: wide, start, stop: start + frames, values: new Int16Array(bytes) };
        paint();
      } catch { /* the next move asks again */ }
    } while (again);
    busy = false;
  }

  let painting = false;
  const frames = [];
  function paint() {
    if (painting) return;
    painting = true;
    requestAnimationFrame((now) => { painting = false; frames.push(now); draw(); });
  }

  function show(start, stop) {
    const span = Math.min(Math.max(stop - start, 48), bench.frames);
    const from = Math.min(Math.max(start, 0), bench.frames - span);
    view.start = from;
    view.stop = from + span;
    const place = (f) => (f / bench.rate).toFixed(span < 4800 ? 4 : 2);
    document.getElementById("lanes-span").textContent = `${place(view.start)}–${place(view.stop)} s`;
    paint();
    load();
  }

  canvas.addEventListener("wheel", (event) => {
    event.preventDefault();
    if (event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY)) {
      const by = ((event.deltaX || event.deltaY) / width) * (view.stop - view.start);
      show(view.start + by, view.stop + by);
      return;
    }
    const at = frameAt(Math.max(event.offsetX, NAMES));
    const factor = 1.0015 ** event.deltaY;
    show(at - (at - view.start) * factor, at + (view.stop - at) * factor);
  }, { passive: false });

  let grip = null;
  canvas.addEventListener("pointerdown", (event) => {
    canvas.setPointerCapture(event.pointerId);
    if (event.shiftKey) {
      box = { x0: event.offsetX, y0: event.offsetY, x1: event.offsetX, y1: event.offsetY };
      return;
    }
    const hit = hitAt(event.offsetX, event.offsetY);
    if (hit) {
      drag = { hit, from: event.offsetX, at: event.offsetX, moved: false };
      return;
    }
    grip = { x: event.offsetX, start: view.start, stop: view.stop, moved: false };
  });
  canvas.addEventListener("pointermove", (event) => {
    if (box) { box.x1 = event.offsetX; box.y1 = event.offsetY; paint(); return; }
    if (drag) {
      drag.at = event.offsetX;
      drag.moved ||= Math.abs(drag.at - drag.from) > 4;
      if (drag.moved) paint();
      return;
    }
    if (!grip) return;
    const by = ((grip.x - event.offsetX) / (width - NAMES)) * (grip.stop - grip.start);
    if (Math.abs(grip.x - event.offsetX) > 3) grip.moved = true;
    if (grip.moved) show(grip.start + by, grip.stop + by);
  });
  canvas.addEventListener("pointerup", (event) => {
    if (box) {
      const done = box;
      box = null;
      chooseAll(hits.filter((h) => inside(h, done)));
      return;
    }
    if (drag) {
      const { hit, at, from, moved } = drag;
      drag = null;
      // Alt leaves the grid's pull aside.
      if (moved) act.move(hit, hit.t + (frameAt(at) - frameAt(from)) / bench.rate, event.altKey);
      else choose(hit);
      paint();
      return;
    }
    if (grip && !grip.moved) pick(event.offsetX, event.offsetY);
    grip = null;
  });

  function pick(px, py) {
    if (px < NAMES) {
      const mic = bench.mics[Math.floor((py - TOP) / laneHeight())];
      if (mic) location.search = `?mic=${mic}&bars=${bench.loop.join("-")}`;
      return;
    }
    choose(null);
  }

  const rowOf = (piece) => {
    const own = bench.mics.findIndex((m) => PIECE(m) === piece);
    return own >= 0 ? own : bench.mics.findIndex((m) => m.startsWith("overhead"));
  };

  // The mark under the pointer: among the lanes that of its own row, above them any.
  function hitAt(px, py) {
    if (px < NAMES) return null;
    const row = Math.floor((py - TOP) / laneHeight());
    const near = hits.filter((h) => py < TIMING || Math.abs(rowOf(h.piece) - row) < 1)
      .map((h) => [Math.abs(x(h.t * bench.rate) - px), h]).sort((p, q) => p[0] - q[0])[0];
    return near && near[0] < 9 ? near[1] : null;
  }

  function inside(hit, { x0, y0, x1, y1 }) {
    const at = x(hit.t * bench.rate), y = TOP + (rowOf(hit.piece) + 0.5) * laneHeight();
    const timed = Math.min(y0, y1) < TIMING;
    return at >= Math.min(x0, x1) && at <= Math.max(x0, x1) && (timed || (y >= Math.min(y0, y1) - 8 && y <= Math.max(y0, y1) + 8));
  }

  // A double click on a drum's lane says that it was struck there.
  canvas.addEventListener("dblclick", (event) => {
    const mic = bench.mics[Math.floor((event.offsetY - TOP) / laneHeight())];
    if (mic && PIECE(mic) && event.offsetX > NAMES && event.offsetY > TOP && !hitAt(event.offsetX, event.offsetY)) act.add(PIECE(mic), frameAt(event.offsetX) / bench.rate);
  });

  function chooseAll(some) {
    chosen = some;
    onStroke(some);
    paint();
  }

  function choose(hit) {
    chosen = hit ? [hit] : [];
    onStroke(chosen);
    if (hit) {
      const at = hit.t * bench.rate, span = view.stop - view.start;
      if (at < view.start || at > view.stop) show(at - span / 2, at + span / 2);
    }
    paint();
  }

  on("picture", (picture) => {
    // Moved and corrected strokes may have passed each other; drawing looks them up by time.
    hits = [...(picture.hits || [])].sort((p, q) => p.t - q.t);
    feel = (picture.placement || []).find((p) => p.piece === bench.piece) || null;
    // The smallest span that holds all but a few strokes.
    const far = hits.map((h) => Math.max(Math.abs(h.late_ms), Math.abs(h.late_ms - (h.moved_ms || 0)))).sort((p, q) => p - q);
    most = SPANS_MS.find((ms) => ms >= (far[Math.floor(far.length * 0.97)] || 0)) || SPANS_MS.at(-1);
    chosen = hits.filter((h) => chosen.some((c) => c.id === h.id));
    onStroke(chosen);
    paint();
    load();
  });
  on("loop", () => { paint(); });
  on("playing", paint);
  document.getElementById("zoom-song").addEventListener("click", () => show(0, bench.frames));
  document.getElementById("zoom-loop").addEventListener("click", () => show(...loopFrames()));
  addEventListener("resize", () => { paint(); load(); });
  (function follow() { if (player.playing) paint(); requestAnimationFrame(follow); })();
  const asked = Number(new URLSearchParams(location.search).get("at"));
  const around = asked ? [(asked - 0.15) * bench.rate, (asked + 0.35) * bench.rate] : [a, b];
  document.fonts.ready.then(() => { draw(); show(...around); });

  // Where a stroke's mark stands, for those who drive the page.
  const placeOf = (mic, seconds) => ({ x: x(seconds * bench.rate), y: TOP + bench.mics.indexOf(mic) * laneHeight() + 5 });
  window.arkund.lanes = { view, show, frames, place: placeOf };
  return {
    chosen: () => chosen,
    goTo(seconds, id) {
      const span = Math.min(view.stop - view.start, 4 * bench.rate), at = seconds * bench.rate;
      show(at - span / 2, at + span / 2);
      choose(hits.find((h) => h.id === id) || null);
    },
    stepStroke(direction) {
      const own = hits.filter((h) => h.piece === bench.piece);
      if (!own.length) return;
      const at = chosen.length ? chosen[0].t : view.start / bench.rate;
      const next = direction > 0 ? own.find((h) => h.t > at + 1e-6) : own.filter((h) => h.t < at - 1e-6).at(-1);
      if (next) choose(next);
    },
  };
}
