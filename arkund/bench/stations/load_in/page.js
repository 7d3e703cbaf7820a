// Load-in: the tempo map and the sections; the table of mics is the server's.
import { notify, post } from "../../js/api.js";
import { address, bench, keepValues, moveTo } from "../../js/bench.js";
import { startSetUp } from "./set-up.js";

const TAPS = 16;

export function start() {
  const number = (id) => Number(document.getElementById(id).value.replace("−", "-").replace(",", "."));

  // Bars lie elsewhere after a change of tempo, so the page is made anew.
  async function send(part, data) {
    try {
      moveTo(await post(address(part), data));
      location.reload();
    } catch (error) {
      notify(error.message);
    }
  }

  async function keep(patch) {
    const before = bench.revision;
    await keepValues(patch);
    if (bench.revision !== before) location.reload();
    else document.querySelectorAll(".hand input.field").forEach((input) => { input.value = input.defaultValue; });
  }

  startSetUp();
  document.getElementById("root-note").addEventListener("change", (event) => keep({ root_note: event.target.value }));
  document.getElementById("tempo-click")?.addEventListener("click", () => send("tempo/click/", {}));
  const others = [...document.querySelectorAll("#other-tempos [data-bpm]")];
  others.forEach((button) => button.addEventListener("click", () => keep({ "tempo.bpm": Number(button.dataset.bpm) })));
  document.getElementById("tempo-count").addEventListener("submit", (event) => {
    event.preventDefault();
    send("tempo/count-in/", { beats: number("tempo-beats") });
  });
  document.getElementById("line-up")?.addEventListener("click", () => send("offset/", { base: bench.revision }));
  document.querySelectorAll("[data-offset]").forEach((input) => input.addEventListener("change", () => {
    const ms = Number(input.value.replace("−", "-").replace(",", "."));
    send("offset/", { base: bench.revision, take: Number(input.dataset.offset), ms: Number.isNaN(ms) ? "" : ms });
  }));
  document.getElementById("tempo-follow").addEventListener("click", () => send("tempo/follow/", {}));
  document.getElementById("tempo-steady").addEventListener("click", () => keep({ "tempo.changes": [] }));
  document.getElementById("tempo-midi").addEventListener("change", (event) => {
    const form = new FormData();
    form.append("midi", event.target.files[0]);
    send("tempo/midi/", form);
  });
  document.getElementById("tempo-typed").addEventListener("submit", (event) => {
    event.preventDefault();
    const bpm = number("tempo-bpm"), start = number("tempo-start");
    if (Number.isNaN(bpm) || Number.isNaN(start)) {
      notify("Tempo and the beginning of bar 1 are numbers, such as 104 and 0.6.");
      event.target.reset();
    } else keep({ "tempo.bpm": bpm, "tempo.first_downbeat_s": start });
  });
  let taps = [];
  document.getElementById("tempo-tap").addEventListener("click", async (event) => {
    taps = [...taps, event.timeStamp].slice(-TAPS);
    const { bpm } = await post(address("tempo/tapped/"), { times_ms: taps }).catch((error) => { notify(error.message); return {}; });
    if (bpm) document.getElementById("tempo-bpm").value = bpm.toFixed(1);
  });

  const field = (row, value, label, run, width) => {
    const cell = row.insertCell();
    const input = cell.appendChild(document.createElement("input"));
    input.className = `field ${width}`;
    input.defaultValue = value;
    input.setAttribute("aria-label", label);
    input.addEventListener("change", () => run(input.value));
  };

  // The tempo map by hand: each change holds until the next.
  const map = document.getElementById("tempo-map");
  const tempo = JSON.parse(map.dataset.tempo);
  tempo.changes.forEach((change, n) => {
    const row = map.tBodies[0].insertRow();
    const put = (what) => keep({ "tempo.changes": tempo.changes.map((c, m) => (m === n ? { ...c, ...what } : c)).sort((a, b) => a.bar - b.bar) });
    field(row, change.bar, `bar of change ${n + 1}`, (v) => put({ bar: Number(v) }), "w-[46px]");
    field(row, change.bpm, `tempo from bar ${change.bar}`, (v) => put({ bpm: Number(v.replace(",", ".")) }), "w-[72px]");
    field(row, `${change.beats}/${change.unit}`, `meter from bar ${change.bar}`, (v) => {
      const [beats, unit] = v.split("/").map(Number);
      if (beats && unit) put({ beats, unit });
      else notify("A meter is two numbers, such as 4/4 or 6/8.");
    }, "w-[46px]");
    const drop = row.insertCell().appendChild(document.createElement("button"));
    drop.className = "act";
    drop.textContent = "remove";
    drop.addEventListener("click", () => keep({ "tempo.changes": tempo.changes.filter((_, m) => m !== n) }));
  });
  document.getElementById("tempo-add").addEventListener("click", () => {
    const bar = Math.max(bench.loop[0], 2);
    if (tempo.changes.some((c) => c.bar === bar)) { notify(`There is a change at bar ${bar} already.`); return; }
    const before = tempo.changes.filter((c) => c.bar < bar).at(-1) || tempo;
    const made = { bar, bpm: before.bpm, beats: before.beats, unit: before.unit };
    keep({ "tempo.changes": [...tempo.changes, made].sort((a, b) => a.bar - b.bar) });
  });

  const table = document.getElementById("sections");
  const sections = JSON.parse(table.dataset.sections);
  sections.forEach((section, n) => {
    const row = table.tBodies[0].insertRow();
    const change = (what) => keep({ sections: sections.map((s, m) => (m === n ? { ...s, ...what } : s)) });
    field(row, section.name, `name of section ${n + 1}`, (v) => change({ name: v }), "w-full");
    field(row, section.start_bar, `first bar of ${section.name}`, (v) => change({ start_bar: Number(v) }), "w-[52px]");
    field(row, section.bars, `bars of ${section.name}`, (v) => change({ bars: Number(v) }), "w-[46px]");
    const drop = row.insertCell().appendChild(document.createElement("button"));
    drop.className = "act";
    drop.textContent = "remove";
    drop.addEventListener("click", () => keep({ sections: sections.filter((_, m) => m !== n) }));
  });
  document.getElementById("section-add").addEventListener("click", () => {
    const [first, last] = bench.loop;
    const made = { name: `bars ${first}–${last}`, start_bar: first, bars: last - first + 1 };
    keep({ sections: [...sections, made].sort((a, b) => a.start_bar - b.start_bar) });
  });
  return {
    takeOtherTempo() {
      if (others.length) others[0].click();
      else notify("The hits fit no other tempo as well as this one.");
    },
  };
}
