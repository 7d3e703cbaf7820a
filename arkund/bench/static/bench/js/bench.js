// What the page is about: song, revision, mic, loop, and the try that is in the hand.
import { notify, post } from "./api.js";
import * as bars from "./bars.js";

const holder = document.getElementById("bench");
export const bench = holder ? JSON.parse(holder.textContent) : {};
bench.patch = {};
const events = new EventTarget();

// What a station listens to ends when another takes its place; what is there for good says so.
let visiting = new AbortController();
export const here = () => visiting.signal;
export const FOR_GOOD = {};
export const on = (name, run, how = { signal: visiting.signal }) => events.addEventListener(name, (e) => run(e.detail), how);
export function leave() {
  visiting.abort();
  visiting = new AbortController();
}
export const tell = (name, detail) => events.dispatchEvent(new CustomEvent(name, { detail }));

export const address = (part) => `/${bench.slug}/${part}`;

// Query of revision, try, mic and loop for whatever is fetched.
export function query(extra = {}) {
  const values = { rev: bench.revision, mic: bench.mic, bars: bench.loop.join("-"), ...bench.hand, ...extra };
  if (Object.keys(bench.patch).length && values.patch === undefined) values.patch = JSON.stringify(bench.patch);
  if (!values.patch) delete values.patch;
  return new URLSearchParams(values).toString();
}

export const barStart = (bar) => bars.barStart(bench.bar_starts, bar);
export const barAt = (seconds) => bars.barAt(bench.bar_starts, seconds);

// Two beats around a place are no bars: such a span is heard until a loop is set again.
let span = null;
export function hearSpan(fromS, toS, words) {
  span = [Math.round(fromS * bench.rate), Math.min(bench.frames, Math.round(toS * bench.rate))];
  document.getElementById("looplabel").textContent = words;
  tell("loop");
}

// Whether the bars are played again and again, or the song goes on behind them.
let isLooping = true;
export const loops = () => isLooping || span !== null;
export function setLooping(is) {
  isLooping = is;
  sayLoop();
  tell("loop");
}

function sayLoop() {
  const [a, b] = bench.loop, label = document.getElementById("looplabel");
  const bars = a === b ? `bar ${a}` : a === 1 && b === bench.bars ? "whole song" : `bars ${a}–${b}`;
  label.textContent = isLooping ? bars : `bar ${a} on`;
  label.setAttribute("aria-pressed", String(isLooping));
}

export function loopFrames() {
  if (span) return span;
  const start = Math.max(0, Math.round(barStart(bench.loop[0]) * bench.rate));
  if (!isLooping) return [start, bench.frames];
  const stop = Math.min(bench.frames, Math.round(barStart(bench.loop[1] + 1) * bench.rate));
  return [start, Math.max(stop, start + 64)];
}

export function setLoop(first, last) {
  const a = Math.max(1, Math.min(first, bench.bars));
  const b = Math.max(a, Math.min(last, bench.bars));
  if (!span && a === bench.loop[0] && b === bench.loop[1]) return;
  span = null;
  bench.loop = [a, b];
  const url = new URL(location.href);
  url.searchParams.set("bars", `${a}-${b}`);
  url.searchParams.set("mic", bench.mic);
  history.replaceState(null, "", url);
  document.querySelectorAll("a[href*='bars=']").forEach((link) => {
    // Links of the plan are SVG, whose href is no string: the attribute serves both.
    link.setAttribute("href", link.getAttribute("href").replace(/bars=\d+-\d+/, `bars=${a}-${b}`));
  });
  sayLoop();
  tell("loop");
}

// A try changes pictures at once and leaves no trace on the server.
export function tryValues(patch) {
  Object.assign(bench.patch, patch);
  tell("try");
}

export function dropTry() {
  bench.patch = {};
  tell("try");
}

// Keeping: sound follows at once from the try itself; the revision is stored beside that.
let keeping = Promise.resolve();
export function keepTry() {
  const patch = { ...bench.patch };
  if (!Object.keys(patch).length) return keeping;
  tell("sound");
  keeping = keeping.then(async () => {
    try {
      const made = await post(address("keep/"), { patch, base: bench.revision, station: bench.station, finding: bench.answering || "" });
      for (const path of Object.keys(patch)) {
        if (bench.patch[path] === patch[path]) delete bench.patch[path];
      }
      moveTo(made);
    } catch (error) {
      bench.patch = {};
      tell("refused", patch);
      if (error.status === 409) offerOnTop(error.message, patch);
      else notify(error.message);
      tell("sound");
    }
  });
  return keeping;
}

export const keepValues = (patch) => { tryValues(patch); return keepTry(); };

export function moveTo(made) {
  bench.revision = made.revision;
  for (const part of Object.keys(bench.sheet)) bench.sheet[part] = made.sheet[part];
  document.getElementById("revision").textContent = made.revision;
  tell("kept", made.sheet);
}

// Somebody else's change is shown; one's own goes on top of it by a click.
function offerOnTop(text, patch) {
  notify(`${text} The page shows it now. `, { words: "Apply mine on top", run: () => keepValues(patch) });
  tell("again");
}

export async function step(direction) {
  try {
    // What a hand has set and nobody has stored yet comes first: it is what is taken back.
    await keepTry();
    const made = await post(address(`${direction}/`));
    bench.patch = {};
    moveTo(made);
    sayStep(made.said);
    tell("stepped", made.sheet);
    tell("sound");
    tell("try");
    if (bench.station === "log" || bench.station === "print" || isGone()) tell("again");
  } catch (error) {
    notify(error.message);
  }
}

// Whether the page shows a value that the sheet has no more.
const isGone = () => [...document.querySelectorAll("[data-path], [data-set]")]
  .map(({ dataset }) => dataset.path || dataset.set)
  .some((path) => path.split(".")[0] in bench.sheet && valueAt(bench.sheet, path) === undefined);

const SAID_MS = 8000;
let saying = 0;
function sayStep(words) {
  const said = document.getElementById("stepped");
  said.textContent = words;
  clearTimeout(saying);
  saying = setTimeout(() => { said.textContent = ""; }, SAID_MS);
}

export function valueAt(sheet, path) {
  // Stages and bands are named by their ids, wherever they stand.
  const inner = (node, key) => (Array.isArray(node) ? node.find((one) => one && one.id === key) ?? node[key] : node[key]);
  return path.split(".").reduce((node, key) => (node === undefined || node === null ? undefined : inner(node, key)), sheet);
}
