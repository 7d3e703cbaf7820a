// Clean by hand: regions over the loop, moved by mouse and by keys. Places are samples; what a change
// makes of the neighbours is the server's.
import { notify, post } from "../../js/api.js";
import { bench, here, keepValues, moveTo, tell } from "../../js/bench.js";
import { clear, el, minus } from "../../js/draw.js";

const TOP = 28, HEIGHT = 234, GRIP = 7;
const SIDES = { in: "begins", out: "ends" };

export function startRegions() {
  const bar = document.getElementById("regions-bar"), svg = document.getElementById("regions");
  const gain = document.getElementById("region-gain"), said = document.getElementById("region-said");
  let picture = null, chosen = "", cursor = null, focused = "";

  const x = (sample) => ((sample - picture.span[0]) / (picture.span[1] - picture.span[0])) * svg.clientWidth;
  const sampleAt = (event) => {
    const box = svg.getBoundingClientRect();
    const share = Math.min(Math.max((event.clientX - box.left) / box.width, 0), 1);
    return Math.round(picture.span[0] + share * (picture.span[1] - picture.span[0]));
  };
  const region = (id) => picture.regions.find((one) => one.id === id);
  const seconds = (sample) => (sample / bench.rate).toFixed(3);

  async function change(what, more = {}) {
    try {
      moveTo(await post(bar.dataset.to, { base: bench.revision, mic: bench.mic, what, region: chosen, ...more }));
      tell("sound");
      tell("try");
    } catch (error) {
      notify(error.message);
      draw();
    }
  }

  function choose(id) {
    chosen = id;
    const one = region(id);
    gain.disabled = !one;
    gain.value = one ? minus(one.gain_db, one.gain_db % 1 ? 1 : 0) : "";
    said.textContent = one
      ? `${one.id}: ${seconds(one.at)} to ${seconds(one.stop)} s${one.by_hand ? ", set by hand" : ""}`
      : "Drag an edge, or draw a region where there is none.";
    bar.querySelectorAll("[data-region-do]").forEach((b) => { b.disabled = !one && b.dataset.regionDo !== "derive"; });
  }

  function draw(moving = null) {
    // What is drawn anew loses the focus, but the hand is still on it.
    const held = focused;
    clear(svg);
    for (const one of picture.regions) {
      const [at, stop] = moving && moving.id === one.id ? [moving.at, moving.stop] : [one.at, one.stop];
      const left = x(at), right = x(stop);
      const body = el(svg, "rect", { class: `body${one.id === chosen ? " chosen" : ""}${one.by_hand ? " hand" : ""}`,
        x: left, y: TOP, width: Math.max(right - left, 1), height: HEIGHT });
      body.addEventListener("pointerdown", (event) => { event.stopPropagation(); cursor = sampleAt(event); choose(one.id); draw(); });
      const y = (db) => TOP + Math.min(HEIGHT - 8, (-db / 80) * HEIGHT) + 0.5;
      const low = TOP + HEIGHT, level = y(one.gain_db);
      el(svg, "path", { class: "fade", d: `M${left} ${one.from_db === null ? low : y(one.from_db)}L${x(at + one.fade_in)} ${level}H${x(stop - one.fade_out)}L${right} ${one.touches ? level : low}` });
      for (const side of ["in", "out"]) edge(one, side, side === "in" ? left : right);
    }
    if (cursor !== null && region(chosen)) el(svg, "line", { class: "cursor", x1: x(cursor), x2: x(cursor), y1: TOP, y2: TOP + HEIGHT });
    if (held) svg.querySelector(`[data-edge="${held}"]`)?.focus();
  }

  function edge(one, side, at) {
    const value = side === "in" ? one.at : one.stop;
    const grip = el(svg, "rect", { class: "edge", x: at - GRIP / 2, y: TOP, width: GRIP, height: HEIGHT, tabindex: 0, role: "slider",
      "data-edge": `${one.id}-${side}`, "aria-label": `Region ${one.id} ${SIDES[side]}`, "aria-valuenow": value,
      "aria-valuemin": 0, "aria-valuemax": bench.frames, "aria-valuetext": `${seconds(value)} s` });
    grip.addEventListener("focus", () => { focused = `${one.id}-${side}`; if (chosen !== one.id) { choose(one.id); draw(); } });
    grip.addEventListener("blur", () => { focused = ""; });
    grip.addEventListener("keydown", (event) => {
      const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
      if (!step) return;
      event.preventDefault();
      event.stopPropagation();
      change("edge", { edge: side, at: Math.max(0, value + step * Math.round((event.shiftKey ? 0.001 : 0.01) * bench.rate)) });
    });
    grip.addEventListener("pointerdown", (event) => {
      event.stopPropagation();
      event.preventDefault();
      choose(one.id);
      follow(event, (to) => draw({ id: one.id, at: side === "in" ? Math.min(to, one.stop - 1) : one.at, stop: side === "out" ? Math.max(to, one.at + 1) : one.stop }),
        (to) => change("edge", { edge: side, at: to }));
    });
  }

  // The pointer until it is let go; Escape leaves all as it was.
  function follow(first, moved, done) {
    svg.setPointerCapture(first.pointerId);
    const stop = () => {
      svg.removeEventListener("pointermove", onMove);
      svg.removeEventListener("pointerup", onUp);
      document.removeEventListener("keydown", onKey, true);
    };
    const onMove = (event) => moved(sampleAt(event));
    const onUp = (event) => { stop(); done(sampleAt(event)); };
    const onKey = (event) => { if (event.key === "Escape") { event.stopPropagation(); stop(); draw(); } };
    svg.addEventListener("pointermove", onMove);
    svg.addEventListener("pointerup", onUp);
    document.addEventListener("keydown", onKey, true);
  }

  svg.addEventListener("pointerdown", (event) => {
    const from = sampleAt(event);
    choose("");
    cursor = null;
    draw();
    const drawn = el(svg, "rect", { class: "drawn", y: TOP, height: HEIGHT, x: x(from), width: 0 });
    follow(event, (to) => { drawn.setAttribute("x", x(Math.min(from, to))); drawn.setAttribute("width", Math.abs(x(to) - x(from))); },
      (to) => {
        drawn.remove();
        if (Math.abs(x(to) - x(from)) > 3) change("draw", { at: Math.min(from, to), stop: Math.max(from, to) });
      });
  });

  const doing = {
    split: () => change("split", { at: cursor ?? Math.round((region(chosen).at + region(chosen).stop) / 2) }),
    join: () => change("join"),
    remove: () => change("remove"),
    derive: () => change("derive"),
  };
  bar.querySelectorAll("[data-region-do]").forEach((button) => button.addEventListener("click", () => doing[button.dataset.regionDo]()));
  gain.addEventListener("change", () => {
    const db = Number(gain.value.replace("−", "-"));
    if (!Number.isFinite(db)) { choose(chosen); return; }
    const path = `mics.${bench.mic}.clean.regions.${chosen}`;
    keepValues({ [`${path}.gain_db`]: db, [`${path}.by_hand`]: true });
  });
  document.addEventListener("keydown", (event) => {
    if (!picture || !picture.by_hand || !region(chosen) || event.target.matches("input, select, textarea")) return;
    const run = { s: doing.split, S: doing.split, J: doing.join, Delete: doing.remove, Backspace: doing.remove }[event.key];
    if (!run || event.ctrlKey || event.metaKey || event.altKey) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    run();
  }, { signal: here() });
  addEventListener("resize", () => { if (picture) draw(); }, { signal: here() });

  function show(next) {
    picture = next;
    bar.hidden = !picture.by_hand;
    svg.toggleAttribute("hidden", !picture.by_hand);
    if (!picture.by_hand) return;
    choose(region(chosen) ? chosen : "");
    draw();
  }
  return { show, derive: doing.derive };
}
