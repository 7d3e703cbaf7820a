// The first visit: the step that is next stands above the work and follows what was done.
import { getPage, notify, post, postForPage } from "./api.js";
import { address, bench, here, on } from "./bench.js";
import { player } from "./player.js";

const HEARD_MS = 1500, JOB_MS = 4000;

export function startFirstVisit() {
  if (!document.getElementById("first-visit")) return;
  const mine = here();
  const box = () => document.getElementById("first-visit");
  const next = () => box().dataset.next || "";
  const query = `?station=${bench.station}`;

  function show(html) {
    if (mine.aborted) return;
    const fresh = new DOMParser().parseFromString(html, "text/html").getElementById("first-visit");
    if (fresh) box().replaceWith(document.adoptNode(fresh));
    wire();
  }
  const ask = () => getPage(address(`first-visit/${query}`)).then(show).catch((error) => notify(error.message));
  const say = (what, name = next()) => postForPage(address(`first-visit/step/${query}`), { name, what }).then(show).catch((error) => notify(error.message));

  function wire() {
    box().querySelector("[data-over]")?.addEventListener("click", () => say("over"));
    box().querySelector("[data-away]")?.addEventListener("click", () => {
      post(address("first-visit/leave/")).catch(() => {}).finally(() => { if (!mine.aborted) box().hidden = true; });
    });
  }

  // What is only heard: the raw kit for a moment, the next finding, one state after the other.
  const states = new Set();
  let hearing = 0;
  function listen() {
    clearTimeout(hearing);
    if (!player.playing) return;
    states.add(player.variant);
    if (next() === "raw" && player.variant === "recorded") hearing = setTimeout(() => { if (player.playing && player.variant === "recorded") say("heard"); }, HEARD_MS);
    if (next() === "compare" && states.has("recorded") && states.has("now")) hearing = setTimeout(() => say("heard"), HEARD_MS);
  }
  on("playing", listen);
  on("variant", listen);
  on("looked", () => { if (next() === "findings") say("heard"); });
  on("kept", () => { if (next()) ask(); });
  // A pass or a print ends without a change in hand.
  const watch = setInterval(() => {
    if (mine.aborted) clearInterval(watch);
    else if (["pass", "print"].includes(next())) ask();
  }, JOB_MS);
  wire();
}
