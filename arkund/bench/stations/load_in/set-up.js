// Correcting the set-up: mics dragged over the plan, roles chosen, files put under mics.
import { getJson, notify, post } from "../../js/api.js";
import { address, bench, here, keepValues } from "../../js/bench.js";
import { visit } from "../../js/visit.js";

const DRAG_PX = 5;

const label = (mic) => mic.replaceAll("_", " ");

// Such a change is analysed anew by a worker; the page waits and shows how far it is.
async function correct(wanted) {
  const box = document.getElementById("set-up-progress");
  try {
    const { job } = await post(address("set-up/"), { base: bench.revision, ...wanted });
    box.showModal();
    for (;;) {
      const state = await getJson(`/jobs/${job}/`);
      box.querySelector("progress").value = state.share;
      box.querySelector("p").textContent = `${state.message}, ${Math.round(state.share * 100)} %`;
      if (state.state === "done") break;
      if (state.state !== "queued" && state.state !== "running") throw new Error(state.message);
      await new Promise((wait) => setTimeout(wait, 250));
    }
    const url = new URL(location.href);
    url.searchParams.set("mic", wanted.names?.[bench.mic] || wanted.files?.[0].mic || bench.mic);
    visit(url);
  } catch (error) {
    box.close();
    notify(error.message);
  }
}

// Whoever is what this mic becomes takes its place.
function rename(mic, name) {
  if (mic === name) return;
  correct({ names: bench.mics.includes(name) ? { [mic]: name, [name]: mic } : { [mic]: name } });
}

async function stage(file) {
  const token = Array.from(crypto.getRandomValues(new Uint8Array(12)), (b) => b.toString(16).padStart(2, "0")).join("");
  const form = new FormData();
  form.append("file", file);
  form.append("name", file.name);
  const arrived = (await post(`/staging/${token}/`, form)).files.find((f) => f.name === file.name);
  if (arrived.refusal) throw new Error(`${file.name} ${arrived.refusal}`);
  return { token, arrived };
}

// A stereo file under a mono mic: which side of it, or both together.
function sideOf(file, mic) {
  return choose(`${file} is stereo; ${label(mic)} takes`, [["left", "its left side"], ["right", "its right side"], ["sum", "the sum of both"]]);
}

// One of several, or nothing where the dialog is left.
function choose(title, options) {
  const dialog = document.getElementById("place-dialog"), list = document.getElementById("place-choices");
  document.getElementById("place-title").textContent = title;
  return new Promise((done) => {
    list.replaceChildren(...options.map(([value, words]) => {
      const button = document.createElement("button");
      button.className = "press";
      button.dataset.becomes = value;
      button.textContent = words;
      button.addEventListener("click", () => { done(value); dialog.close(); });
      return button;
    }));
    dialog.addEventListener("close", () => done(null), { once: true });
    dialog.showModal();
  });
}

export function startSetUp() {
  const find = (id) => document.getElementById(id);
  const mic = bench.mic;
  const sides = JSON.parse(find("set-up").dataset.sides);

  find("stands-as").addEventListener("change", (event) => rename(mic, event.target.value));
  find("split-pair")?.addEventListener("click", () => correct({ names: sides.split }));
  find("pair-with")?.addEventListener("change", (event) => event.target.value && correct({ names: sides.partners[event.target.value] }));
  find("overdub").addEventListener("change", (event) => correct({ overdubs: { [mic]: event.target.checked } }));
  find("in-use")?.addEventListener("click", () => correct({ unused: { [mic]: "" } }));
  find("leave-out")?.addEventListener("submit", (event) => {
    event.preventDefault();
    const why = event.target.querySelector("input").value.trim();
    if (why) correct({ unused: { [mic]: why } });
    else notify("Say why the mic is left out; the log and the recall report will need it.");
  });
  find("distance").addEventListener("change", async (event) => {
    const text = event.target.value.replace(",", ".").replace("cm", "").trim();
    const cm = text === "" ? null : Number(text);
    if (Number.isNaN(cm) || cm < 0 || cm > 3000) {
      notify("A distance is a number of cm from 0 to 3000, such as 45.");
      event.target.value = event.target.defaultValue;
      return;
    }
    await keepValues({ [`mics.${mic}.distance_cm`]: cm });
    location.reload();
  });
  find("bed-level")?.addEventListener("change", (event) => {
    const db = Number(event.target.value.replace("−", "-").replace(",", "."));
    if (Number.isNaN(db) || db < -90 || db > 12) notify("The bed's level is a number of dB from −90 to 12.");
    else keepValues({ bed_db: db });
  });

  async function bring(input, name) {
    const [file] = input.files;
    input.value = "";
    if (!file) return;
    try {
      const { token, arrived } = await stage(file);
      const to = name || arrived.mic;
      if (!name && bench.mics.includes(to)) throw new Error(`${file.name} reads as ${label(to)}, which the song has. Choose that mic and swap its file, or give the file another name.`);
      const take = Number(find("swap-take")?.value || 1);
      const pairs = ["overhead", "room", "kit", "bed", "reference"].includes(to);
      const pick = arrived.channels === 2 && !pairs ? await sideOf(file.name, to) : "mono";
      if (pick) await correct({ token, files: [{ name: file.name, mic: to, take, pick }] });
    } catch (error) {
      notify(error.message);
    }
  }
  find("swap-file").addEventListener("change", (event) => bring(event.target, mic));
  find("add-file").addEventListener("change", (event) => bring(event.target, ""));
  // Heard beside the drums, whatever their files are called; another one takes its place.
  find("bed-file").addEventListener("change", (event) => bring(event.target, "bed"));
  find("reference-file").addEventListener("change", (event) => bring(event.target, "reference"));

  startFloor();
}

function startFloor() {
  const floor = document.getElementById("floor"), line = document.getElementById("drag");
  const choices = JSON.parse(floor.dataset.choices);
  let held = null;

  const point = (event) => new DOMPoint(event.clientX, event.clientY).matrixTransform(floor.getScreenCTM().inverse());
  const target = (event) => document.elementsFromPoint(event.clientX, event.clientY).map((e) => e.closest("#floor [data-piece]")).find(Boolean) || null;

  floor.addEventListener("pointerdown", (event) => {
    const mic = event.target.closest("[data-mic]");
    if (!mic || event.button) return;
    held = { mic: mic.dataset.mic, x: event.clientX, y: event.clientY, from: point(event), moved: false };
    floor.setPointerCapture(event.pointerId);
  });
  // Mics are links: while one is dragged over the plan it must not be dragged as an address.
  floor.addEventListener("dragstart", (event) => event.preventDefault());
  floor.addEventListener("pointermove", (event) => {
    if (!held) return;
    held.moved ||= Math.hypot(event.clientX - held.x, event.clientY - held.y) > DRAG_PX;
    if (!held.moved) return;
    const to = point(event), over = target(event);
    line.setAttribute("d", `M${held.from.x} ${held.from.y}L${to.x} ${to.y}`);
    floor.querySelectorAll("[data-piece]").forEach((p) => p.classList.toggle("chosen", p === over));
  });
  const drop = () => {
    held = null;
    line.setAttribute("d", "");
    floor.querySelectorAll("[data-piece]").forEach((p) => p.classList.remove("chosen"));
  };
  floor.addEventListener("pointerup", (event) => {
    if (!held) return;
    const { mic, moved } = held, over = target(event);
    drop();
    // A captured pointer's click lands on the plan, not on the mic it was pressed on.
    if (moved) ask(mic, over ? over.dataset.piece : "");
    else visit(floor.querySelector(`[data-mic="${mic}"]`).getAttribute("href"));
  });
  floor.addEventListener("pointercancel", drop);
  addEventListener("keydown", (event) => { if (event.key === "Escape" && held) drop(); }, { signal: here() });

  async function ask(mic, piece) {
    const title = `${label(mic)} stands ${piece ? `at the ${label(piece)}` : "away from the drums"} as`;
    const name = await choose(title, choices[piece].map((choice) => {
      const swap = choice.taken && choice.taken !== mic;
      return [choice.mic, swap ? `${choice.label} (which becomes ${label(mic)})` : choice.label];
    }));
    if (name) rename(mic, name);
  }
}
