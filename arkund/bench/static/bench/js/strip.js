// The listening strip: sections, waveform, loop brush, what is heard and how loud.
import { getBytes, getJson } from "./api.js";
import { FOR_GOOD, address, barAt as barOf, barStart, bench, keepValues, loopFrames, loops, on, query, setLoop, setLooping, tell } from "./bench.js";
import { colour, label, minus } from "./draw.js";
import { player } from "./player.js";
import { withBorder } from "./sections.js";
import { Still } from "./still.js";

const MEASURED_S = 190; // of a long loop so much is measured
const PLACE_MS = 50; // between two writings of the place while it plays

export function startStrip() {
  const canvas = document.getElementById("strip");
  const still = new Still(canvas), { pen } = still;
  let extremes = null;
  let width = 0;

  const seconds = bench.frames / bench.rate; // a song of another length is another page
  const x = (s) => (s / seconds) * width;

  function draw() {
    width = canvas.clientWidth;
    still.resize(width, 50);
    pen.clearRect(0, 0, width, 50);
    pen.font = "10px 'Spline Sans Mono'";
    bench.sections.forEach((section, i) => {
      const from = x(barStart(section.start_bar));
      const to = x(Math.min(barStart(section.start_bar + section.bars), seconds));
      pen.fillStyle = i % 2 ? colour("hairline") : colour("wash");
      pen.fillRect(from, 3, to - from - 1, 12);
      pen.fillStyle = colour("ink-2");
      if (to - from > 24) pen.fillText(section.name, from + 4, 12);
    });
    const [a, b] = loopFrames().map((f) => x(f / bench.rate));
    pen.fillStyle = colour("proposed");
    pen.globalAlpha = 0.22;
    pen.fillRect(a, 0, b - a, 50);
    pen.globalAlpha = 1;
    if (extremes) {
      pen.fillStyle = colour("ink-2");
      for (let i = 0; i < extremes.length / 2; i += 1) {
        const low = extremes[2 * i] / 32768, high = extremes[2 * i + 1] / 32768;
        pen.fillRect((i * width) / (extremes.length / 2), 33 - high * 17, 1, Math.max((high - low) * 17, 0.6));
      }
    }
    still.show(headAt());
  }
  const headAt = () => x(player.position() / bench.rate);

  async function load() {
    const columns = Math.max(64, Math.min(canvas.clientWidth, 2000));
    const text = query({ start: 0, frames: bench.frames, columns, mics: bench.strip_mic });
    extremes = new Int16Array((await getBytes(`${address("lanes/")}?${text}`)).bytes);
    draw();
  }

  // A border between sections: dragged to another bar.
  const EDGE_PX = 5, BAND_PX = 17;
  let border = null;
  const spot = (event) => {
    const box = canvas.getBoundingClientRect();
    return { x: event.clientX - box.left, y: event.clientY - box.top };
  };
  const borderAt = (event) => {
    const { x: px, y } = spot(event);
    if (y > BAND_PX) return null;
    const n = bench.sections.findIndex((s) => Math.abs(x(barStart(s.start_bar + s.bars)) - px) <= EDGE_PX);
    return n < 0 ? null : n;
  };
  canvas.addEventListener("pointerdown", (event) => {
    border = borderAt(event);
    if (border === null) return;
    event.stopImmediatePropagation();
    canvas.setPointerCapture(event.pointerId);
    const before = bench.sections, n = border;
    const move = (e) => {
      const { x: px } = spot(e);
      bench.sections = withBorder(before, n, Math.round(barOf((px / width) * seconds)), bench.bars);
      draw();
    };
    const up = () => {
      canvas.removeEventListener("pointermove", move);
      border = null;
      if (JSON.stringify(bench.sections) !== JSON.stringify(before)) keepValues({ sections: bench.sections });
    };
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", up, { once: true });
  });
  canvas.addEventListener("pointermove", (event) => canvas.classList.toggle("on-border", borderAt(event) !== null));
  on("kept", (sheet) => { if (sheet) { bench.sections = sheet.sections; draw(); } }, FOR_GOOD);

  // The brush: drag over bars to set the loop, click for one bar, on a section's name for the section, twice
  // for the whole song.
  let from = 0;
  const barAt = (event) => {
    const box = canvas.getBoundingClientRect();
    const s = ((event.clientX - box.left) / box.width) * seconds;
    return Math.floor(barOf(s));
  };
  canvas.addEventListener("pointerdown", (event) => {
    canvas.setPointerCapture(event.pointerId);
    from = barAt(event);
    const section = spot(event).y <= BAND_PX && bench.sections.find((s) => from >= s.start_bar && from < s.start_bar + s.bars);
    if (section) setLoop(section.start_bar, section.start_bar + section.bars - 1);
    else setLoop(from, from);
  });
  canvas.addEventListener("dblclick", () => setLoop(1, bench.bars));
  document.getElementById("looplabel").addEventListener("click", () => setLooping(!loops()));
  canvas.addEventListener("pointermove", (event) => {
    if (!from) return;
    const to = barAt(event);
    if (to !== from || spot(event).y > BAND_PX) setLoop(Math.min(from, to), Math.max(from, to));
  });
  canvas.addEventListener("pointerup", () => { from = 0; });

  document.querySelectorAll("[data-variant]").forEach((button) => {
    button.addEventListener("click", () => chooseVariant(button.dataset.variant));
  });
  on("loop", () => { draw(); figuresSoon(); }, FOR_GOOD);
  on("kept", figuresSoon, FOR_GOOD);
  on("sound", figuresSoon, FOR_GOOD);
  on("other", figures, FOR_GOOD);
  on("loading", (text) => { document.getElementById("loading").textContent = text; }, FOR_GOOD);
  on("playing", (is) => {
    document.getElementById("play-shape").setAttribute("d", is ? "M4 3h4v14H4zM12 3h4v14h-4z" : "M5 3l13 7-13 7z");
  }, FOR_GOOD);
  addEventListener("resize", () => { draw(); load(); });
  const place = document.getElementById("place");
  let written = 0;
  function follow(now = 0) {
    if (player.playing) still.follow(headAt());
    if (player.playing && now - written >= PLACE_MS) {
      written = now;
      const at = Math.max(1, barOf(player.position() / bench.rate));
      const bar = Math.floor(at);
      const rest = (at - bar) * bench.beats;
      place.textContent = `${bar}.${Math.floor(rest) + 1}.${String(Math.floor((rest % 1) * 100)).padStart(2, "0")}`;
    }
    requestAnimationFrame(follow);
  }
  document.fonts.ready.then(draw);
  load();
  figures();
  follow();
}

// Figures of the loop, in the background.
let wanted = 0;
async function figures() {
  const mine = ++wanted;
  const [start, end] = loopFrames();
  const stop = Math.min(end, start + MEASURED_S * bench.rate);
  const node = player.node;
  try {
    const text = query({ node, start, frames: stop - start, ...player.fetching.asking });
    const f = await getJson(`${address("figures/")}?${text}`);
    if (mine !== wanted) return;
    const shown = (v, unit) => (v <= -150 ? "silent" : `${minus(v)} ${unit}`);
    document.getElementById("peak").textContent = shown(f.peak_dbfs, "dBFS");
    document.getElementById("loud").textContent = shown(f.loudness_lufs, "LUFS");
    document.getElementById("crest").textContent = `${minus(f.crest_db)} dB`;
    document.getElementById("peak").classList.toggle("text-trouble", f.peak_dbfs > 0);
    player.matchDb = f.match_db;
    document.getElementById("matchdb").textContent = `${f.match_db >= 0 ? "+" : ""}${minus(f.match_db)} dB`;
    if (player.other) {
      const o = await getJson(`${address("figures/")}?${query({ node, start, frames: stop - start, rev: player.other.rev, patch: player.other.patch || "", to: f.loudness_lufs })}`);
      if (mine !== wanted) return;
      player.otherDb = o.to_db;
    }
    player.applyGains();
  } catch { /* the next change asks again */ }
}
let soon = 0;
const figuresSoon = () => { clearTimeout(soon); soon = setTimeout(figures, 900); };

// What is heard of the kit: the row of each station, with what was chosen before still chosen.
export function startHearing() {
  const row = document.querySelector(".strip .hearing");
  if (![...row.querySelectorAll("[data-node]")].some((b) => b.dataset.node === player.node) && !player.node.includes("+")) {
    // A solo stays what was soloed: the mic in hand now is another one.
    const kept = document.createElement("button");
    kept.type = "button";
    kept.dataset.node = player.node;
    kept.textContent = label(player.node);
    row.insertBefore(kept, row.children[1]);
  }
  document.querySelectorAll(".strip [data-node]").forEach((button) => {
    button.addEventListener("click", () => {
      press(button, ".strip [data-node], .strip [data-together]");
      player.hear(button.dataset.node);
      figuresSoon();
      tell("hearing");
    });
  });
  // Several at once: what is ticked is heard as soon as it is ticked, and is there again on the next page.
  const together = document.getElementById("heard-together");
  const boxes = [...together.querySelectorAll("input")];
  const several = document.getElementById("several");
  const keptAs = `together ${bench.slug}`;
  const ticked = () => boxes.filter((box) => box.checked).map((box) => box.value);
  function nameSeveral() {
    several.textContent = ticked().length ? `${ticked().length} together…` : "several…";
  }
  function hearSeveral() {
    const nodes = ticked();
    sessionStorage.setItem(keptAs, JSON.stringify(nodes));
    nameSeveral();
    if (!nodes.length) { document.querySelector('.strip [data-node="output"]').click(); return; }
    press(several, ".strip [data-node], .strip [data-together]");
    player.hear(nodes.length > 1 ? nodes.join("+") : `${nodes[0]}+${nodes[0]}`);
    figuresSoon();
    tell("hearing");
  }
  for (const name of JSON.parse(sessionStorage.getItem(keptAs) || "[]")) {
    const box = boxes.find((one) => one.value === name);
    if (box) box.checked = true;
  }
  nameSeveral();
  together.addEventListener("change", hearSeveral);
  several.addEventListener("click", () => { if (ticked().length) hearSeveral(); });
  const pressed = player.node.includes("+") ? several : row.querySelector(`[data-node="${CSS.escape(player.node)}"]`);
  press(pressed, ".strip [data-node], .strip [data-together]");
}

function press(button, all) {
  document.querySelectorAll(all).forEach((b) => b.setAttribute("aria-pressed", String(b === button)));
}

// Something else to compare with: another revision, or the present one without what is tried.
export function offerOther(other) {
  const button = document.querySelector("[data-variant=other]");
  button.hidden = !other;
  player.setOther(other);
  if (other) button.textContent = other.words;
  else if (player.variant === "other") chooseVariant("now");
  tell("other");
}

export function chooseVariant(variant) {
  if (variant === "other" && !player.other) return;
  // A rung of a ladder has its button there.
  press(document.querySelector(`[data-variant="${variant}"]`), "[data-variant]");
  player.choose(variant);
  tell("variant", variant);
}
