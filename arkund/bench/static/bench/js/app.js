// The station pages: components for Alpine, keys, and the station's own picture.
import { Refusal, notify, post } from "./api.js";
import { FOR_GOOD, address, bench, here, keepValues, loops, on, setLoop, setLooping, step, valueAt } from "./bench.js";
import { startPassages } from "./passages.js";
import { startPictures } from "./pictures.js";
import { player } from "./player.js";
import { startRoving } from "./roving.js";
import { ruler } from "./ruler.js";
import { startClock } from "./clock.js";
import { startFindings } from "./findings.js";
import { startFirstVisit } from "./first-visit.js";
import { closeLadder, ladderKey, startLadder, startLadders } from "./ladder.js";
import { startLive } from "./live.js";
import { chooseVariant, startHearing, startStrip } from "./strip.js";
import { toggleTheme } from "./theme.js";
import { askWhy, noteToDo, startNotes } from "./notes.js";
import { again, startVisits, visit } from "./visit.js";

let station = null;
let findings = null;
let passages = null;
let starting = null;

function page() {
  return {
    play: togglePlay,
    undo: () => step("undo"),
    redo: () => step("redo"),
    theme: () => { toggleTheme(); dispatchEvent(new Event("resize")); },
    keys: () => document.getElementById("keys").showModal(),
    match: toggleMatch,
    mono: toggleMono,
  };
}

function togglePlay() {
  if (player.playing) player.pause();
  else player.play().catch((error) => notify(`Sound could not be started: ${error.message}`));
}

function toggleMatch() {
  player.matched = !player.matched;
  const button = document.getElementById("match");
  button.setAttribute("aria-pressed", String(player.matched));
  button.textContent = player.matched ? "matched" : "not matched";
  player.applyGains();
}

function toggleMono() {
  player.setMono(!player.mono);
  const button = document.getElementById("mono");
  button.setAttribute("aria-pressed", String(player.mono));
  button.textContent = player.mono ? "mono on" : "mono off";
}

document.addEventListener("alpine:init", () => {
  window.Alpine.data("page", page);
  window.Alpine.data("ruler", ruler);
});

// Buttons that set one value of the sheet, and show which is set.
function startChoices() {
  const groups = [...document.querySelectorAll("[data-set]")];
  for (const group of groups) {
    group.addEventListener("change", () => { if (group.value) keepValues({ [group.dataset.set]: JSON.parse(group.value) }); });
    group.querySelectorAll("button").forEach((button) => button.addEventListener("click", () => {
      keepValues({ [group.dataset.set]: JSON.parse(button.dataset.value) });
    }));
  }
  const show = (sheet) => {
    for (const group of groups) {
      const value = JSON.stringify(valueAt(sheet, group.dataset.set));
      if (group instanceof HTMLSelectElement) group.value = value;
      group.querySelectorAll("button").forEach((b) => b.setAttribute("aria-pressed", String(b.dataset.value === value)));
    }
    if (station && station.showMode) station.showMode(sheet.mics[bench.mic].clean);
  };
  on("kept", show);
  return show;
}

function moveLoop(by) {
  const [a, b] = bench.loop;
  const span = b - a + 1;
  const first = Math.max(1, Math.min(a + by * span, bench.bars - span + 1));
  setLoop(first, first + span - 1);
}

function moveMic(by) {
  const next = bench.mics[(bench.mics.indexOf(bench.mic) + by + bench.mics.length) % bench.mics.length];
  visit(`?mic=${next}&bars=${bench.loop.join("-")}`);
}

const KEYS = {
  " ": togglePlay,
  1: () => chooseVariant("recorded"), 2: () => chooseVariant("now"), 3: () => chooseVariant("removed"), 4: () => chooseVariant("other"),
  f: () => findings && findings.step(1), g: () => findings && findings.step(-1),
  h: () => findings && findings.hear(), a: () => findings && findings.apply(),
  c: () => findings && findings.change(), x: () => findings && findings.decline(),
  m: toggleMatch,
  o: () => setLooping(!loops()), w: () => setLoop(1, bench.bars),
  "[": () => moveLoop(-1), "]": () => moveLoop(1),
  "-": () => setLoop(bench.loop[0], bench.loop[0] + Math.max(0, Math.ceil((bench.loop[1] - bench.loop[0] + 1) / 2) - 1)),
  "+": () => setLoop(bench.loop[0], bench.loop[0] + 2 * (bench.loop[1] - bench.loop[0] + 1) - 1),
  z: () => step("undo"), y: () => step("redo"),
  ",": () => moveMic(-1), ".": () => moveMic(1),
  p: () => passages && passages.next(), r: () => passages && passages.goBack(),
  d: () => noteToDo(), v: () => askWhy(),
  "?": () => document.getElementById("keys").showModal(),
};
// What the station's record says of a key, as its script does it.
function ownKey(key) {
  const does = bench.keys[key];
  return does && station && station[does] ? () => station[does]() : null;
}
// Space presses a button to which Tab has led, and plays where a mouse has pressed one before.
let isByMouse = false;
document.addEventListener("pointerdown", () => { isByMouse = true; }, true);

const isTyped = (target) => target.matches("textarea, select, input:not([type=checkbox], [type=radio], [type=range])");
document.addEventListener("keydown", (event) => {
  if (event.key === "Tab") isByMouse = false;
  else if (starting && isHeld(event)) {
    // What comes before the station's script is there does its work when it is.
    event.preventDefault();
    starting.then(() => press(event), () => {});
  } else press(event);
});

// Nor is a click in vain that comes before it.
document.addEventListener("click", (event) => {
  const button = event.target.closest(".work button, .hand button");
  if (!starting || !event.isTrusted || !button) return;
  event.preventDefault();
  event.stopPropagation();
  starting.then(() => button.click(), () => {});
}, true);

const isHeld = (event) => event.key.length === 1 && !isTyped(event.target) && !(event.ctrlKey || event.metaKey || event.altKey)
  && !(event.key === " " && event.target.matches("button, summary"));

function press(event) {
  if (isTyped(event.target)) return;
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z") {
    event.preventDefault();
    step(event.shiftKey ? "redo" : "undo");
    return;
  }
  if (event.ctrlKey || event.metaKey || event.target.matches("input")) return;
  if (event.altKey && /^[0-9]$/.test(event.key)) {
    const number = event.key === "0" ? "10" : event.key;
    document.querySelector(`[data-station="${number}"]`)?.click();
    return;
  }
  if (event.key === " " && event.target.matches("button, summary") && !isByMouse) return;
  // Enter on what has the focus presses that.
  const isPressed = event.key === "Enter" && event.target.matches("a, button, summary");
  const run = ladderKey(event) || (!isPressed && ownKey(event.key.toLowerCase())) || KEYS[event.key] || KEYS[event.key.toLowerCase()];
  if (!run || event.altKey) return;
  event.preventDefault();
  run();
}

async function takeBack(number, allTheSame) {
  try {
    await post(address("take-back/"), { revision: number, all_the_same: allTheSame });
    again();
  } catch (error) {
    if (error instanceof Refusal && error.body.later && confirm(error.message)) await takeBack(number, true);
    else notify(error.message);
  }
}

function startTables() {
  document.querySelectorAll("[data-take-back]").forEach((button) => button.addEventListener("click", () => takeBack(Number(button.dataset.takeBack), false)));
  document.querySelectorAll("[data-link]").forEach((button) => button.addEventListener("click", () => { visit(button.dataset.link); }));
  document.querySelectorAll("table[data-sortable] th button").forEach((button) => button.addEventListener("click", () => {
    const column = button.parentElement.cellIndex;
    const body = button.closest("table").tBodies[0];
    const down = button.dataset.down !== "1";
    button.dataset.down = down ? "1" : "0";
    const number = (text) => parseFloat(text.replace("−", "-"));
    const rows = [...body.rows].sort((p, q) => {
      const a = p.cells[column].textContent.trim(), b = q.cells[column].textContent.trim();
      const order = Number.isNaN(number(a)) || Number.isNaN(number(b)) ? a.localeCompare(b) : number(a) - number(b);
      return down ? order : -order;
    });
    body.append(...rows);
  }));
}

async function begin() {
  const coming = start();
  starting = coming;
  try {
    await coming;
  } finally {
    if (starting === coming) starting = null;
  }
}

// What every station begins with; the strip and the player are there already.
async function start() {
  const mine = here();
  const script = bench.script && (await import(bench.script));
  // Another station may have been chosen while the script came.
  if (mine.aborted) return;
  station = script ? script.start() : null;
  startTables();
  startRoving();
  startHearing();
  closeLadder();
  startLadder();
  startChoices()(bench.sheet);
  findings = startFindings();
  passages = startPassages();
  startLive();
  startPictures();
  startFirstVisit();
}

startStrip();
startClock();
startLadders();
startNotes();
on("again", again, FOR_GOOD);
startVisits(begin);
await begin();
