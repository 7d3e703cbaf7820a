// A chain: one line of stages in order; dragged or moved by keys, bypassed, added, removed.
import { getJson, notify, post } from "./api.js";
import { address, bench, keepValues, moveTo, on, query } from "./bench.js";
import { startCopying, startOwnChains } from "./copying.js";
import { startDifferences } from "./differences.js";
import { clear, el, path } from "./draw.js";
import { player } from "./player.js";
import { offerOther } from "./strip.js";
import { again, visit } from "./visit.js";

export function startChain() {
  const line = document.querySelector("[data-chain]");
  if (!line) return;
  const chain = line.dataset.chain;
  // What is refused is said and leaves the page as it is.
  let refused = false;
  on("refused", () => { refused = true; });
  const change = (patch, stage, bus) => {
    refused = false;
    keepValues(patch).then(() => { if (!refused) show(stage, bus); });
  };
  const move = (id, after) => { if (after !== undefined && after !== id) change({ [`${chain}.${id}.after`]: after }, id); };

  // What a switch does is seen at once, and kept then.
  function bypass(stage) {
    const isOn = stage.dataset.on !== "1", { stage: id } = stage.dataset;
    const button = line.querySelector(`[data-bypass="${CSS.escape(id)}"]`);
    stage.classList.toggle("standby", !isOn);
    button.textContent = isOn ? "active" : "bypassed";
    button.setAttribute("aria-pressed", String(!isOn));
    change({ [`${chain}.${id}.on`]: isOn }, id);
  }
  line.querySelectorAll("[data-bypass]").forEach((button) => {
    button.addEventListener("click", () => bypass(line.querySelector(`[data-stage="${CSS.escape(button.dataset.bypass)}"]`)));
  });

  line.querySelectorAll("[data-stage]").forEach((stage) => {
    const id = stage.dataset.stage;
    stage.addEventListener("keydown", (event) => {
      const { key, altKey } = event;
      if (altKey && key === "ArrowLeft") move(id, stage.dataset.earlier);
      else if (altKey && key === "ArrowRight") move(id, stage.dataset.later);
      else if (key === "s" || key === "S") bypass(stage);
      else if (key === "Delete") change({ [`${chain}.${id}`]: null }, "");
      else return;
      event.preventDefault();
      event.stopPropagation();
    });
    stage.addEventListener("dragstart", (event) => event.dataTransfer.setData("text/plain", id));
    stage.addEventListener("dragover", (event) => event.preventDefault());
    stage.addEventListener("drop", (event) => {
      event.preventDefault();
      const box = stage.getBoundingClientRect();
      const before = event.clientX < box.left + box.width / 2;
      const previous = stage.closest(".cell").previousElementSibling.querySelector("[data-stage]");
      const after = before ? previous?.dataset.stage || "" : id;
      const dragged = event.dataTransfer.getData("text/plain");
      if (after !== dragged && line.querySelector(`[data-stage="${CSS.escape(dragged)}"]`)) move(dragged, after);
    });
  });
  document.querySelectorAll("[data-add]").forEach((button) => button.addEventListener("click", () => {
    const { add, values } = button.dataset;
    change({ [`${chain}.${add}`]: JSON.parse(values) }, add);
  }));
  document.querySelectorAll("[data-add-band]").forEach((button) => button.addEventListener("click", () => {
    const taken = new Set([...document.querySelectorAll("[data-link*='band=']")].map((b) => b.dataset.link.split("band=")[1]));
    const id = Array.from({ length: 99 }, (_, n) => `b${n + 1}`).find((b) => !taken.has(b));
    change({ [`${button.dataset.addBand}.${id}`]: {} });
  }));
  document.querySelectorAll("[data-patch]").forEach((button) => button.addEventListener("click", () => change(JSON.parse(button.dataset.patch))));
  startDifferences(change);
  startCopying();
  startOwnChains();
  bypassed(line.querySelector("[data-stage].chosen"), chain);
  startBuses(change);
  // Undo and redo may change the line itself.
  const now = JSON.stringify(ids(line));
  on("stepped", (sheet) => { if (JSON.stringify(chainIn(sheet, chain)) !== now) again(); });
}

const ids = (line) => [...line.querySelectorAll("[data-stage]")].map((s) => [s.dataset.stage, s.dataset.on === "1"]);

function chainIn(sheet, chain) {
  const stages = chain.split(".").reduce((node, key) => (node ? node[key] : undefined), sheet) || [];
  return stages.map((s) => [s.id, s.on]);
}

// The stage in hand is heard bypassed by key 4, at the same loudness.
function bypassed(stage, chain) {
  if (!stage || stage.dataset.on !== "1") return;
  let mine = null;
  const offer = () => {
    mine = {
      rev: bench.revision, words: "bypassed",
      patch: JSON.stringify({ [`${chain}.${stage.dataset.stage}.on`]: false }),
    };
    offerOther(mine);
  };
  offer();
  // Where a finding has offered something else since, that stays.
  on("kept", () => { if (player.other === mine) offer(); });
}

// Buses come and go, and take from other channels.
function startBuses(change) {
  document.querySelectorAll("[data-add-bus]").forEach((form) => form.addEventListener("submit", (event) => {
    event.preventDefault();
    const name = new FormData(form).get("name").trim().toLowerCase().replace(/[ -]+/g, "_");
    change({ [`${form.dataset.addBus}.${name}`]: {} }, undefined, name);
  }));
  document.querySelectorAll("[data-beside]").forEach((button) => button.addEventListener("click", () => {
    const patch = JSON.parse(button.dataset.beside);
    change(patch, undefined, Object.keys(patch)[0].split(".")[1]);
  }));
  document.querySelectorAll("[data-rename]").forEach((form) => form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const name = new FormData(form).get("name");
    try {
      const made = await post(address("rename/"), { channel: form.dataset.rename, name, base: bench.revision });
      moveTo(made);
      show(undefined, made.called);
    } catch (error) {
      notify(error.message);
    }
  }));
  document.querySelectorAll("[data-add-sends]").forEach((form) => form.addEventListener("submit", (event) => {
    event.preventDefault();
    const from = new FormData(form).getAll("from");
    if (from.length) change(Object.fromEntries(from.map((name) => [`${form.dataset.addSends}.${name}`, { db: 0 }])));
  }));
}

// Sends of a bus that come or go, in one change.
export function changeSends(bus, names, adds) {
  keepValues(Object.fromEntries(names.map((name) => [`buses.${bus}.sends.${name}`, adds ? { db: 0 } : null]))).then(again);
}

// The line is the server's: it is shown anew with the stage in hand.
function show(stage, bus) {
  const url = new URL(location.href);
  if (bus) url.searchParams.set("bus", bus);
  if (stage !== undefined) {
    if (stage) url.searchParams.set("stage", stage);
    else url.searchParams.delete("stage");
    const link = document.querySelector(`[data-stage="${CSS.escape(stage)}"]`);
    const kind = document.querySelector(`[data-add="${CSS.escape(stage)}"]`);
    if (kind) url.pathname = url.pathname.replace(/(eq|dynamics|bus)\/?$/, kind.dataset.kind === "eq" ? "eq" : "dynamics");
    if (kind && !url.searchParams.get("channel") && url.searchParams.get("bus")) url.searchParams.set("channel", url.searchParams.get("bus"));
    if (!link && !kind && stage) url.searchParams.delete("stage");
  }
  visit(url);
}

export function drawChain(hits) {
  for (const one of hits || []) {
    const svg = document.querySelector(`[data-hit="${CSS.escape(one.id)}"]`);
    if (!svg) continue;
    clear(svg);
    const y = (v) => 38 - v * 30, x = (i, count) => 2 + (i / (count - 1)) * 92;
    const line = (values) => path(values.map((v, i) => [x(i, values.length), y(v)]));
    el(svg, "path", { class: "under", d: `${line(hits[0].hit)}L94 38L2 38z` });
    el(svg, "path", { class: "inkline", d: line(one.hit) });
  }
}
