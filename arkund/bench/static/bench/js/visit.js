// From station to station without leaving the page: what is around the picture is exchanged, while the
// player, the strip and what is heard stay. Every station is a plain address, too: where anything is
// unusual, the browser goes there as it would without this.
import { bench, keepTry, leave, tell } from "./bench.js";

// What differs from station to station; the rest of the frame stays.
const PARTS = [".frame > header", ".frame > .kit-side", "#work", ".frame > .hand", ".strip .hearing", "#heard-together"];
const SCROLLED = [".kit-side", "#work", ".hand"];

let begin = () => {};
let latest = null;

// What to do whenever a page has come.
export function startVisits(run) {
  begin = run;
  addEventListener("popstate", () => visit(location.href, { isBack: true }));
  document.addEventListener("click", (event) => {
    const link = event.target.closest("a[href]");
    if (!link || event.defaultPrevented || event.button || event.ctrlKey || event.metaKey || event.shiftKey || event.altKey) return;
    // Links of the plan are SVG, whose href is no string: the attribute serves both.
    const href = link.getAttribute("href"), url = new URL(href, location.href);
    if (href.startsWith("#") || link.hasAttribute("download") || !isStation(url)) return;
    event.preventDefault();
    visit(url);
  });
}

function isStation(url) {
  const [, slug, station, rest] = url.pathname.split("/");
  return url.origin === location.origin && slug === bench.slug && rest === "" && bench.stations.includes(station);
}

// The page as the server has it now.
export const again = () => visit(location.href, { isBack: true });

export async function visit(to, { isBack = false } = {}) {
  const url = new URL(to, location.href);
  latest?.abort();
  const mine = (latest = new AbortController());
  document.getElementById("loading").textContent = "opening …";
  try {
    // What a hand has not let go of yet is kept before it goes elsewhere.
    if (Object.keys(bench.patch).length) await keepTry();
    const answer = await fetch(url, { signal: mine.signal, headers: { Accept: "text/html" } });
    const page = new DOMParser().parseFromString(await answer.text(), "text/html");
    if (latest !== mine) return;
    const data = page.getElementById("bench");
    const next = data && JSON.parse(data.textContent);
    if (!answer.ok || !next || next.slug !== bench.slug || next.frames !== bench.frames || !page.querySelector("#work")) {
      location.assign(url);
      return;
    }
    await show(page, next, url, isBack);
  } catch {
    // Left for another station meanwhile, or something unusual: the browser says what it is.
    if (latest === mine) location.assign(url);
  } finally {
    if (latest === mine) document.getElementById("loading").textContent = "";
  }
}

async function show(page, next, url, isBack) {
  const isSameStation = next.station === bench.station;
  const wasLoop = bench.loop.join("-"), wasRevision = bench.revision;
  const places = SCROLLED.map((one) => document.querySelector(one).scrollTop);
  const focused = asked(document.activeElement);
  leave();
  if (!isBack) history.pushState(null, "", url);
  else history.replaceState(null, "", url);
  document.title = page.title;
  for (const part of PARTS) {
    const old = document.querySelector(part), fresh = page.querySelector(part);
    old.replaceWith(document.adoptNode(fresh));
  }
  for (const name of Object.keys(bench)) delete bench[name];
  Object.assign(bench, next, { patch: {} });
  SCROLLED.forEach((one, n) => {
    if (one === ".kit-side" || isSameStation) document.querySelector(one).scrollTop = places[n];
  });
  if (focused) document.querySelector(focused)?.focus({ preventScroll: true });
  await begin();
  if (bench.loop.join("-") !== wasLoop) tell("loop");
  else if (bench.revision !== wasRevision) tell("sound");
}

// How the element that has the focus is found on the next page.
function asked(element) {
  if (!element || element === document.body) return "";
  if (element.closest(".rail")) return ".rail [aria-current=page]";
  if (element.dataset.mic) return `.mics [data-mic="${CSS.escape(element.dataset.mic)}"]`;
  return element.id ? `#${CSS.escape(element.id)}` : "";
}
