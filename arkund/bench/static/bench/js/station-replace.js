// Replace: strokes from soft to loud with the samples under them, one stroke at sample zoom.
import { notify, post } from "./api.js";
import { bench, keepValues, on } from "./bench.js";
import { clear, el, minus, path } from "./draw.js";

export function startReplace() {
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

// Strokes go into the stock and out of it; the page comes anew, with what was put in chosen.
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
      location.reload();
    } catch (error) {
      notify(error.message);
    }
  }
  const said = sessionStorage.getItem("said");
  sessionStorage.removeItem("said");
  if (said) notify(said);
  document.getElementById("stock-keep").addEventListener("click", () => {
    change(box.dataset.keep, { mic, name: document.getElementById("stock-name").value }, "Keeping its strokes…");
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

// The page anew with another layer in hand or another stroke chosen; none where it is empty.
function show(what, name) {
  const url = new URL(location.href);
  if (name) url.searchParams.set(what, name);
  else url.searchParams.delete(what);
  location.replace(url);
}

function draw(p) {
  drawStrokes(p);
  listMends(p);
  if (p.zoom) drawOne(p);
  if (p.said) document.getElementById("replace-said").textContent = p.said;
  document.getElementById("even-said").textContent = p.accents
    ? `${p.accents} accents spread by ${minus(p.spread_db)} dB${p.spread_db < 3 ? ": nothing needed here" : ""}` : "";
  document.getElementById("harvest-count").textContent = `${p.count} of ${p.of} strokes; the best first`;
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

// Bad strokes, each with what can stand in for it in all mics.
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
    choice.setAttribute("aria-label", `What stands in for the stroke at ${bad.place}`);
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
        show("stroke", "");
      } catch (error) {
        notify(error.message);
        button.disabled = false;
      }
    });
    line.insertCell().append(button);
  }
}

function drawStrokes(p) {
  const svg = clear(document.getElementById("strip-of-strokes"));
  const step = 690 / Math.max(p.strokes.length, 1);
  el(svg, "line", { class: "zero", x1: 5, x2: 695, y1: 120, y2: 120 });
  p.strokes.forEach((stroke, i) => {
    const x = 5 + (i + 0.5) * step, top = 120 - stroke.v * 0.88;
    const group = el(svg, "g", { class: p.family });
    el(group, "line", { class: "line", x1: x, x2: x, y1: 120, y2: top, opacity: stroke.kind === "ghost" ? 0.4 : 1 });
    const target = el(group, "rect", { class: "catch", x: x - step / 2, y: 8, width: step, height: 112, fill: "transparent" });
    el(target, "title", {}, `stroke at ${stroke.t.toFixed(2)} s, velocity ${stroke.v}`);
    target.addEventListener("click", () => show("stroke", stroke.id));
    if (Number.isInteger(stroke.sound)) el(svg, "circle", { class: "hollow", cx: x, cy: 134 + (stroke.sound % 16) * 3.2, r: Math.min(step / 2, 3) });
  });
  el(svg, "text", { x: 5, y: 12 }, "velocity 127");
  if (p.rows) {
    const sounds = new Set(p.rows.map((r) => r.sound)).size;
    el(svg, "text", { x: 695, y: 12, "text-anchor": "end" }, `${p.rows.length} strokes get ${sounds > 1 ? `one of ${sounds} samples` : "the sound"}`);
  }
}

function drawOne(p) {
  const svg = clear(document.getElementById("one-stroke"));
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
