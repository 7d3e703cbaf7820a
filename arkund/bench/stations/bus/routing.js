// Lines from the mics into groups, the bus in hand and the drum bus; drawn as wide as there is room, in type
// of one size. A mic's name takes it in hand, a box its group or bus.
import { bench } from "../../js/bench.js";
import { changeSends } from "../../js/chain.js";
import { clear, el, familyOf, mark, minus } from "../../js/draw.js";

const LEAST = 440, HIGH = 330, ROWS = { first: 16, step: 23, room: 306 };
const NAMES = 96, FADER = 44, GROUP = { width: 92, height: 18, apart: 24 }, BUS = { width: 112, height: 44 }, SUM = { width: 108, height: 60 };
const NEAR_PX = { x: 16, y: 10 };

// Where each column stands: taps before the faders, groups between, the drum bus at the right.
function columns(width) {
  const free = width - NAMES - FADER - GROUP.width - SUM.width;
  const fader = NAMES + Math.max(free * 0.37, 24);
  return {
    tap: NAMES + (fader - NAMES) * 0.55,
    fader,
    group: fader + FADER + free * 0.15,
    bus: { x: Math.max(width * 0.67, width - BUS.width - 142), y: 46 },
    sum: { x: width - SUM.width - 8, y: 190 },
  };
}

export function drawRouting(p) {
  const svg = clear(document.getElementById("routing"));
  const width = Math.max(svg.clientWidth, LEAST), at = columns(width);
  svg.setAttribute("viewBox", `0 0 ${width} ${HIGH}`);
  const step = Math.min(ROWS.step, ROWS.room / p.routing.length);
  const rows = p.routing.map((row, i) => ({ ...row, y: ROWS.first + i * step }));
  const groups = placed(p.groups, rows);
  const isBus = p.bus in bench.sheet.buses;
  for (const row of rows) drawMic(svg, at, row, groups.find((group) => group.name === row.to), isBus);
  for (const group of groups) drawGroup(svg, at, group, group.name === p.bus);
  if (isBus) drawBus(svg, at, p);
  drawSum(svg, at, p);
  if (isBus) followTaps(svg, p);
}

// Groups beside the middle of their mics; none covers another.
function placed(groups, rows) {
  const out = groups.map((group) => {
    const own = rows.filter((row) => row.to === group.name).map((row) => row.y);
    return { ...group, y: own.length ? (Math.min(...own) + Math.max(...own)) / 2 : null };
  }).filter((group) => group.y !== null);
  out.sort((a, b) => a.y - b.y).forEach((group, n) => { if (n) group.y = Math.max(group.y, out[n - 1].y + GROUP.apart); });
  return out;
}

const thick = (db) => Math.max(0.8, (db + 48) / 7);
const faded = (db) => (db === null ? "mute" : db <= -90 ? "off" : minus(db));
const curve = (from, to) => {
  const bend = (from.x + to.x) / 2;
  return `M${from.x} ${from.y}C${bend} ${from.y} ${bend} ${to.y} ${to.x} ${to.y}`;
};

// What a click takes in hand; by keys the list of mics and the rows above do the same.
function link(svg, query, name) {
  const bars = bench.loop.join("-");
  return el(svg, "a", { href: `?mic=${query.mic || bench.mic}&bars=${bars}&bus=${query.bus}`, tabindex: -1, "aria-label": name });
}

function drawMic(svg, at, row, group, isBus) {
  const { y } = row, family = familyOf(row.family);
  const lane = el(svg, "g", { class: family });
  const name = link(lane, { mic: row.mic, bus: new URLSearchParams(location.search).get("bus") || "" }, row.label);
  el(name, "rect", { class: "catch", x: 0, y: y - 9, width: NAMES - 4, height: 18 });
  mark(name, family, 8, y, 3.4, { class: "solid" });
  el(name, "text", { x: 18, y: y + 3.5, class: row.mic === bench.mic ? "strong" : "" }, row.label);
  el(lane, "line", { class: "line", "stroke-width": thick(row.peak), x1: NAMES, x2: at.fader + 2, y1: y, y2: y });
  if (isBus) el(lane, "circle", { class: row.send === null ? "hollow tap" : "solid tap", cx: at.tap, cy: y, r: 3.4, "data-tap": row.mic });
  if (row.send !== null) el(lane, "path", { class: "line thin dashed", d: curve({ x: at.tap, y }, at.bus) });
  // The fader mark stands after the tap.
  el(svg, "rect", { class: "flag", x: at.fader, y: y - 6, width: FADER, height: 12, rx: 1 });
  el(svg, "text", { x: at.fader + FADER / 2, y: y + 3.5, "text-anchor": "middle" }, faded(row.fader));
  if (!row.to || row.fader === null || row.fader <= -90) return;
  const to = group ? { x: at.group, y: group.y } : at.sum;
  el(lane, "path", { class: "line", "stroke-width": thick(row.peak + row.fader), opacity: 0.55, d: curve({ x: at.fader + FADER, y }, to) });
}

function drawGroup(svg, at, group, isInHand) {
  const isShut = group.fader === null || group.fader <= -90;
  if (!isShut) el(svg, "path", { class: "inkline", opacity: 0.7, d: curve({ x: at.group + GROUP.width, y: group.y }, at.sum) });
  const box = link(svg, { bus: group.name }, `${group.name}, group`);
  el(box, "rect", { class: isInHand ? "flag chosen" : "flag", x: at.group, y: group.y - GROUP.height / 2, width: GROUP.width, height: GROUP.height, rx: 2 });
  const does = group.stages ? ` · ${group.stages}` : "";
  el(box, "text", { class: "strong", x: at.group + GROUP.width / 2, y: group.y + 3.5, "text-anchor": "middle" }, `${group.name} ${faded(group.fader)}${does}`);
}

function drawBus(svg, at, p) {
  const { x, y } = at.bus, middle = x + BUS.width / 2;
  el(svg, "rect", { class: "flag chosen", x, y: y - BUS.height / 2, width: BUS.width, height: BUS.height, rx: 2 });
  el(svg, "text", { class: "strong", x: middle, y: y - 5, "text-anchor": "middle" }, p.called);
  el(svg, "text", { x: middle, y: y + 11, "text-anchor": "middle" }, p.typical_db > 0 ? `−${minus(p.typical_db)} dB` : "no reduction");
  const top = { x: at.sum.x + SUM.width / 2, y: at.sum.y - SUM.height / 2 }, bottom = y + BUS.height / 2;
  const bend = (bottom + top.y) / 2;
  el(svg, "path", { class: "inkline", d: `M${middle} ${bottom}C${middle} ${bend} ${top.x} ${bend} ${top.x} ${top.y}` });
}

function drawSum(svg, at, p) {
  const { x, y } = at.sum, middle = x + SUM.width / 2;
  const box = link(svg, { bus: "drum_bus" }, "drum bus");
  el(box, "rect", { class: p.bus === "drum_bus" ? "flag chosen" : "flag", x, y: y - SUM.height / 2, width: SUM.width, height: SUM.height, rx: 2 });
  el(box, "text", { class: "strong", x: middle, y: y - 8, "text-anchor": "middle" }, "drum bus");
  el(box, "text", { x: middle, y: y + 10, "text-anchor": "middle" }, `peak ${minus(p.peak_dbfs)} dBFS`);
}

// A drag over the taps makes sends of all that it crosses, or takes them away, as the first one goes.
function followTaps(svg, p) {
  const taps = [...svg.querySelectorAll("[data-tap]")];
  const sent = new Set(p.routing.filter((row) => row.send !== null).map((row) => row.mic));
  const near = (event) => taps.find((tap) => {
    const box = tap.getBoundingClientRect();
    return Math.abs(event.clientY - (box.top + box.bottom) / 2) < NEAR_PX.y;
  });
  const isAt = (event) => taps.length && Math.abs(event.clientX - (taps[0].getBoundingClientRect().left + 4)) < NEAR_PX.x;
  svg.onpointerdown = (event) => {
    const first = isAt(event) && near(event);
    if (!first) return;
    svg.setPointerCapture(event.pointerId);
    const adds = !sent.has(first.dataset.tap), crossed = new Set();
    const cross = (e) => {
      const tap = near(e);
      if (!tap || sent.has(tap.dataset.tap) === adds) return;
      crossed.add(tap.dataset.tap);
      tap.setAttribute("class", adds ? "solid tap" : "hollow tap");
    };
    cross(event);
    svg.onpointermove = cross;
    svg.onpointerup = () => {
      svg.onpointermove = svg.onpointerup = null;
      changeSends(p.bus, [...crossed], adds);
    };
  };
}
