// Replace: hits from soft to loud with the samples under them, one hit at sample zoom.
import { notify, post } from "../../js/api.js";
import { bench, keepValues, moveTo, on, tell } from "../../js/bench.js";
import { clear, el, levels, minus, path } from "../../js/draw.js";
import { again, visit } from "../../js/visit.js";

export function start() {
  const adding = document.getElementById("replace-add");
  if (!adding) return;
  adding.querySelectorAll("[data-what]").forEach((button) => button.addEventListener("click", async () => {
    button.disabled = true;
    try {
      const { what } = button.dataset;
      const source = what === "layer" ? document.getElementById("replace-source").value : "song";
      const made = await post(adding.dataset.addTo, { base: bench.revision, mic: adding.dataset.mic, what, source });
      const known = new Set([...document.querySelectorAll("[data-link*='layer=']")].map((b) => b.dataset.link.split("layer=")[1]));
      const name = Object.keys(made.sheet.layers).find((one) => !known.has(one) && one.endsWith(what)) || Object.keys(made.sheet.layers).pop();
      show("layer", name);
    } catch (error) {
      notify(error.message);
      button.disabled = false;
    }
  }));
  document.querySelectorAll("[data-drop]").forEach((button) => button.addEventListener("click", async () => {
    await keepValues({ [button.dataset.drop]: null });
    show("layer", "");
  }));
  startStock();
  on("picture", draw);
  const layers = JSON.stringify(Object.keys(bench.sheet.layers || {}));
  on("stepped", (sheet) => { if (JSON.stringify(Object.keys(sheet.layers)) !== layers) show("layer", ""); });
}

// Hits go into the stock and out of it; the page comes anew, with what was put in chosen.
function startStock() {
  const box = document.getElementById("stock-in");
  const { mic } = box.dataset;
  const source = document.getElementById("replace-source");
  const chosen = sessionStorage.getItem("stocked");
  sessionStorage.removeItem("stocked");
  if ([...source.options].some((one) => one.value === chosen)) source.value = chosen;
  async function change(url, data, waiting) {
    notify(waiting);
    try {
      const done = await post(url, data);
      sessionStorage.setItem("stocked", done.source || "");
      sessionStorage.setItem("said", done.said);
      again();
    } catch (error) {
      notify(error.message);
    }
  }
  const said = sessionStorage.getItem("said");
  sessionStorage.removeItem("said");
  if (said) notify(said);
  document.getElementById("stock-keep").addEventListener("click", () => {
    change(box.dataset.keep, { mic, name: document.getElementById("stock-name").value }, "Keeping its hits…");
  });
  document.getElementById("stock-files").addEventListener("change", (event) => {
    const form = new FormData();
    form.append("mic", mic);
    form.append("name", document.getElementById("stock-name").value);
    for (const file of event.target.files) form.append("files", file);
    change(box.dataset.upload, form, "Reading the samples…");
  });
  document.querySelectorAll("#stock [data-out]").forEach((button) => button.addEventListener("click", () => {
    change(document.getElementById("stock").dataset.remove, { name: button.dataset.out }, "Taking it out…");
  }));
}

// The page anew with another layer in hand or another hit chosen; none where it is empty.
function show(what, name) {
  const url = new URL(location.href);
  if (name) url.searchParams.set(what, name);
  else url.searchParams.delete(what);
  visit(url, { isBack: true });
}

function draw(p) {
  drawHits(p);
  listMends(p);
  if (p.zoom) drawOne(p);
  if (p.following) drawFollowing(p);
  if (p.samples) listSamples(p.samples);
  if (p.said) document.getElementById("replace-said").textContent = p.said;
  document.getElementById("even-said").textContent = p.even_said || "";
  document.getElementById("harvest-count").textContent = `${p.count} of ${p.of} hits; the best first`;
  const body = document.querySelector("#harvest tbody");
  body.replaceChildren();
  for (const c of p.candidates) {
    const line = body.insertRow();
    [`${c.time_s.toFixed(2)} s`, c.velocity, c.kind, minus(c.peak_dbfs), minus(c.isolation_db), Math.round(c.length_s * 1000), c.heard_with || "nothing near"].forEach((text, i) => {
      const cell = line.insertCell();
      cell.textContent = text;
      if ([1, 3, 4, 5].includes(i)) cell.className = "fig";
    });
  }
}

// Bad hits, each with what can stand in for it in all mics.
function listMends(p) {
  const table = document.getElementById("mend");
  if (!p.mend.length) return;
  const body = table.tBodies[0];
  body.replaceChildren();
  for (const bad of p.mend) {
    const line = body.insertRow();
    line.insertCell().textContent = `${bad.kind} at ${bad.place}, velocity ${bad.velocity}`;
    const choice = document.createElement("select");
    choice.className = "field w-full";
    choice.setAttribute("aria-label", `What stands in for the hit at ${bad.place}`);
    for (const match of bad.matches) choice.add(new Option(`${match.place}: ${match.reasons.join(", ")}`, match.hit));
    line.insertCell().append(choice);
    const button = document.createElement("button");
    button.className = "act";
    button.textContent = "Patch";
    button.disabled = !bad.matches.length;
    button.addEventListener("click", async () => {
      button.disabled = true;
      try {
        await post(table.dataset.patch, { base: bench.revision, hit: bad.hit, by: choice.value });
        show("hit", "");
      } catch (error) {
        notify(error.message);
        button.disabled = false;
      }
    });
    const cell = line.insertCell();
    cell.append(button);
    if (p.rows) cell.append(leaving(p, bad.hit));
  }
}

// Whether the layer in hand plays on one hit.
function leaving(p, hit) {
  const out = p.left_out.includes(hit);
  const button = document.createElement("button");
  button.className = "act ml-3";
  button.textContent = out ? "lay the layer under it again" : "leave the layer out here";
  button.addEventListener("click", () => {
    const rest = p.left_out.filter((one) => one !== hit);
    keepValues({ [`layers.${p.layer}.left_out`]: out ? rest : [...rest, hit] });
  });
  return button;
}

// A layer's samples, each with its waveform and how it is cut; a typed figure is kept at once.
function listSamples(samples) {
  const table = document.getElementById("samples");
  document.getElementById("samples-part").hidden = !samples.length;
  if (table.contains(document.activeElement)) return;
  const body = table.tBodies[0];
  body.replaceChildren();
  for (const one of samples) {
    const line = body.insertRow();
    const figure = (text) => { const cell = line.insertCell(); cell.className = "fig"; cell.textContent = text; };
    figure(one.number);
    drawWave(line.insertCell(), one);
    [minus(one.peak_dbfs), one.hz ? one.hz.toFixed(0) : "–", one.decay_ms ?? "longer", one.plays].forEach(figure);
    for (const [name, words] of [["length_ms", "length"], ["fade_in_ms", "fade in"], ["fade_out_ms", "fade out"]]) {
      const field = document.createElement("input");
      field.className = "field w-[52px] !py-0";
      field.value = one[name];
      field.inputMode = "decimal";
      field.setAttribute("aria-label", `Sample ${one.number}: ${words} in ms`);
      field.addEventListener("change", () => trim(table, one.number, name, field));
      const cell = line.insertCell();
      cell.className = "fig";
      cell.append(field);
    }
  }
}

async function trim(table, number, name, field) {
  const asked = { base: bench.revision, layer: table.dataset.layer, number, [name]: field.value.trim().replace(",", ".") };
  try {
    moveTo(await post(table.dataset.trim, asked));
    field.blur();
    tell("sound");
    tell("try");
  } catch (error) {
    notify(error.message);
    field.value = field.defaultValue;
  }
}

function drawWave(cell, one) {
  const svg = el(cell, "svg", { viewBox: "0 0 160 22", class: "wave", "aria-hidden": "true" });
  const most = Math.max(...one.wave, 1e-6);
  const up = one.wave.map((v, i) => [(i / (one.wave.length - 1)) * 160, 11 - (v / most) * 10]);
  const down = one.wave.map((v, i) => [(i / (one.wave.length - 1)) * 160, 11 + (v / most) * 10]).reverse();
  el(svg, "path", { d: `${path([...up, ...down])}Z`, class: "solid" });
}

// The drum's hits by level as bars, and the layer's level under each as a line.
function drawFollowing(p) {
  const svg = clear(document.getElementById("following"));
  const { edges_db: edges, counts, curve_db: curve } = p.following;
  const [from, to] = [edges[0], edges[edges.length - 1]];
  const x = (db) => 24 + ((db - from) / (to - from)) * 220, y = (db) => 114 - ((db - from) / (to - from)) * 106;
  levels(svg, y, [-60, -40, -20, 0], 24, 244);
  const most = Math.max(...counts, 1);
  counts.forEach((count, i) => {
    const height = (count / most) * 90;
    if (count) el(svg, "rect", { class: `solid ${p.family}`, opacity: 0.45, x: x(edges[i]), width: x(edges[i + 1]) - x(edges[i]) - 1, y: 114 - height, height });
  });
  const inside = edges.map((db, i) => [x(db), curve[i]]).filter(([, db]) => db >= from && db <= to);
  el(svg, "path", { class: "inkline", d: path(inside.map(([at, db]) => [at, y(db)])) });
  for (const db of [-60, -40, -20, 0]) el(svg, "text", { x: x(db), y: 128, "text-anchor": "middle" }, minus(db, 0));
}

function drawHits(p) {
  const svg = clear(document.getElementById("strip-of-hits"));
  const step = 690 / Math.max(p.hits.length, 1);
  el(svg, "line", { class: "zero", x1: 5, x2: 695, y1: 120, y2: 120 });
  p.hits.forEach((hit, i) => {
    const x = 5 + (i + 0.5) * step, top = 120 - hit.v * 0.88;
    const group = el(svg, "g", { class: p.family });
    el(group, "line", { class: "line", x1: x, x2: x, y1: 120, y2: top, opacity: hit.kind === "ghost" ? 0.4 : 1 });
    const target = el(group, "rect", { class: "catch", x: x - step / 2, y: 8, width: step, height: 112, fill: "transparent" });
    el(target, "title", {}, `hit at ${hit.t.toFixed(2)} s, velocity ${hit.v}`);
    target.addEventListener("click", () => show("hit", hit.id));
    if (p.left_out && p.left_out.includes(hit.id)) el(svg, "text", { x, y: 132, "text-anchor": "middle" }, "×");
    else if (Number.isInteger(hit.sound)) el(svg, "circle", { class: "hollow", cx: x, cy: 134 + (hit.sound % 16) * 3.2, r: Math.min(step / 2, 3) });
  });
  el(svg, "text", { x: 5, y: 12 }, "velocity 127");
  if (p.rows) {
    const sounds = new Set(p.rows.map((r) => r.sound)).size;
    el(svg, "text", { x: 695, y: 12, "text-anchor": "end" }, `${p.rows.length} hits get ${sounds > 1 ? `one of ${sounds} samples` : "the sound"}`);
  }
}

function drawOne(p) {
  const svg = clear(document.getElementById("one-hit"));
  const most = Math.max(...p.zoom.sum.map(Math.abs), ...p.zoom.drum.map(Math.abs), 1e-6);
  const x = (i) => 30 + (i / (p.zoom.drum.length - 1)) * 665, y = (v) => 100 - (v / most) * 88;
  const [from, to] = p.zoom.ms;
  for (let ms = 0; ms <= to; ms += 10) {
    const at = 30 + ((ms - from) / (to - from)) * 665;
    el(svg, "line", { class: "gridline", x1: at, x2: at, y1: 8, y2: 192 });
    el(svg, "text", { x: at - 3, y: 198, "text-anchor": "end" }, `${ms} ms`);
  }
  el(svg, "line", { class: "zero", x1: 30, x2: 695, y1: 100, y2: 100 });
  const points = (values) => path(values.map((v, i) => [x(i), y(v)]));
  el(svg, "path", { class: `line ${p.family}`, d: points(p.zoom.drum) });
  el(svg, "path", { class: "line dashed thin", d: points(p.zoom.layer) });
  el(svg, "path", { class: "inkline", d: points(p.zoom.sum), opacity: 0.75 });
}
