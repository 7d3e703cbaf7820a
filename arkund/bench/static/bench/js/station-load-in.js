// Load-in: the tempo map and the sections; the table of mics is the server's.
import { notify, post } from "./api.js";
import { address, bench, keepValues, moveTo } from "./bench.js";

const TAPS = 8, PAUSE_MS = 2500;

export function startLoadIn() {
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
  }

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
    if (Number.isNaN(bpm) || Number.isNaN(start)) notify("Tempo and the beginning of bar 1 are numbers, such as 104 and 0.6.");
    else keep({ "tempo.bpm": bpm, "tempo.first_downbeat_s": start });
  });
  let taps = [];
  document.getElementById("tempo-tap").addEventListener("click", (event) => {
    if (taps.length && event.timeStamp - taps.at(-1) > PAUSE_MS) taps = [];
    taps = [...taps, event.timeStamp].slice(-TAPS);
    if (taps.length > 2) document.getElementById("tempo-bpm").value = ((60000 * (taps.length - 1)) / (taps.at(-1) - taps[0])).toFixed(1);
  });

  const table = document.getElementById("sections");
  const sections = JSON.parse(table.dataset.sections);
  const field = (row, value, label, run, width) => {
    const cell = row.insertCell();
    const input = cell.appendChild(document.createElement("input"));
    input.className = `field ${width}`;
    input.value = value;
    input.setAttribute("aria-label", label);
    input.addEventListener("change", () => run(input.value));
  };
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
  return null;
}
