// A ladder: a few values of one control, rendered equally loud and playing side by side, so that keys 1 to 5
// change from one to the other at the same sample. Hidden values are shuffled until they are shown.
import { getJson, notify, post } from "./api.js";
import { FOR_GOOD, address, bench, loopFrames, moveTo, on, query, tell } from "./bench.js";
import { player } from "./player.js";
import { chooseVariant } from "./strip.js";

let ladder = null;
let asked = 0;
let before = null; // what had the focus
const box = () => document.getElementById("ladder");
const part = (name) => box().querySelector(`[data-ladder-part=${name}]`);

export async function openLadder(path) {
  const mine = ++asked, [start, stop] = loopFrames();
  part("what").textContent = "setting the ladder up …";
  if (box().hidden) before = document.activeElement;
  box().hidden = false;
  box().focus({ preventScroll: true });
  try {
    const span = { start, frames: stop - start };
    const found = await getJson(`${address("ladder/")}?${query({ path, node: player.node, ...span })}`);
    if (mine !== asked) return;
    ladder = { ...found, order: found.rungs.map((_, n) => n), place: 0, isBlind: false, wasBlind: false, rounds: [] };
    player.setRungs(found.rungs.map((one) => ({ rev: bench.revision, patch: one.patch, db: one.gain_db })));
    hear(0);
  } catch (error) {
    if (mine !== asked) return;
    closeLadder();
    notify(error.message);
  }
}

export function closeLadder() {
  asked += 1;
  if (box().contains(document.activeElement)) before?.focus({ preventScroll: true });
  box().hidden = true;
  if (!ladder) return;
  ladder = null;
  chooseVariant("now");
  player.setRungs([]);
}

// Which rung stands at a place, as the ladder is shuffled now.
const rungAt = (place) => ladder.order[place];

function hear(place) {
  if (place >= ladder.rungs.length) return;
  ladder.place = place;
  draw();
  chooseVariant(`rung ${rungAt(place) + 1}`);
}

function draw() {
  const { rungs, rounds, isBlind, place } = ladder, row = part("rungs");
  part("what").textContent = ladder.what;
  row.replaceChildren(...rungs.map((_, n) => {
    const button = document.createElement("button"), rung = rungAt(n);
    button.type = "button";
    button.textContent = isBlind ? `${n + 1}` : `${n + 1}: ${rungs[rung].words}`;
    button.title = isBlind ? "" : rungs[rung].why;
    button.setAttribute("aria-pressed", String(n === place));
    button.addEventListener("click", () => hear(n));
    return button;
  }));
  part("blind").textContent = isBlind ? "show values" : "hide values";
  part("blind").setAttribute("aria-pressed", String(isBlind));
  part("take").textContent = isBlind ? `Choose ${place + 1}` : `Keep ${rungs[rungAt(place)].words}`;
  part("said").textContent = isBlind ? said(rounds.length) : rungs[rungAt(place)].why;
}

const said = (count) => (count ? `${count} chosen, shuffled again: choose once more, or show the values` : "shuffled; choose by ear");

function shuffle() {
  const { order } = ladder;
  for (let n = order.length - 1; n > 0; n -= 1) {
    const other = Math.floor(Math.random() * (n + 1));
    [order[n], order[other]] = [order[other], order[n]];
  }
}

function toggleBlind() {
  ladder.isBlind = !ladder.isBlind;
  if (ladder.isBlind) {
    ladder.wasBlind = true;
    shuffle();
    hear(0);
    return;
  }
  ladder.order.sort((a, b) => a - b);
  hear(ladder.rounds.length ? ladder.rounds.at(-1) : 0);
  if (ladder.rounds.length) part("said").textContent = counted();
}

// How often each rung was chosen, the value in words.
function counted() {
  const { rungs, rounds } = ladder;
  const times = rungs.map((one, n) => [one.words, rounds.filter((r) => r === n).length]).filter(([, n]) => n);
  return `chosen: ${times.map(([words, n]) => `${words} ${n} of ${rounds.length}`).join(", ")}`;
}

async function take() {
  const { rungs, rounds, place, isBlind, wasBlind } = ladder, rung = rungAt(place);
  if (isBlind) {
    rounds.push(rung);
    shuffle();
    hear(0);
    return;
  }
  const seen = rounds.at(-1) === rung ? rounds : [...rounds, rung];
  const choice = { patch: rungs[rung].patch, over: rungs.map((one) => one.words), rounds: seen, blind: wasBlind && seen === rounds };
  try {
    const made = await post(address("ladder/keep/"), { ...choice, base: bench.revision, station: bench.station });
    closeLadder();
    moveTo(made);
    tell("sound");
    tell("try");
  } catch (error) {
    notify(error.message);
  }
}

const KEYS = { Enter: take, Escape: closeLadder, b: toggleBlind };
// What a key does while a ladder is open. A button that has the focus is pressed by its own Enter.
export function ladderKey({ key, target }) {
  if (!ladder) return null;
  if (/^[1-5]$/.test(key)) return () => hear(Number(key) - 1);
  if (key === "Enter" && target.matches("button, a, summary")) return null;
  return KEYS[key] || null;
}

// On a page with a chain: the control that a ladder is made of.
export function startLadder() {
  document.querySelector("[data-ladder]")?.addEventListener("submit", (event) => {
    event.preventDefault();
    openLadder(event.target.elements.path.value);
  });
}

// The panel stands around every station.
export function startLadders() {
  part("blind").addEventListener("click", toggleBlind);
  part("take").addEventListener("click", take);
  part("close").addEventListener("click", closeLadder);
  // Other bars or another mic are as loud as they are; another sheet is another ladder.
  const anew = () => { if (ladder) openLadder(ladder.path); };
  for (const name of ["loop", "hearing"]) on(name, anew, FOR_GOOD);
  for (const name of ["sound", "stepped"]) on(name, closeLadder, FOR_GOOD);
}
