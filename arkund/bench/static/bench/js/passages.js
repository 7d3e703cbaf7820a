// The loop follows the drum: its places one after the other, its loudest, densest and softest bars, and
// back to the loop before, also after another drum was looked at.
import { bench, on, setLoop } from "./bench.js";

const MEMORY = `arkund-loops-${bench.slug}`;
const remembered = () => {
  try { return JSON.parse(sessionStorage.getItem(MEMORY)) || []; } catch { return []; }
};

export function startPassages() {
  const holder = document.getElementById("passages");
  const back = document.getElementById("passage-back");
  if (!holder) return null;
  const choice = document.getElementById("places");
  const places = [...choice.options].slice(1).map((option) => option.value.split("-").map(Number));

  function go([first, last]) {
    const before = remembered();
    if (bench.loop.join() !== before[before.length - 1]?.join()) before.push([...bench.loop]);
    sessionStorage.setItem(MEMORY, JSON.stringify(before.slice(-20)));
    setLoop(first, last);
    show();
  }

  function goBack() {
    const before = remembered();
    const last = before.pop();
    if (!last) return;
    sessionStorage.setItem(MEMORY, JSON.stringify(before));
    setLoop(...last);
    show();
  }

  // The first place behind the loop, and from the last on the first again.
  function next() {
    if (places.length) go(places.find(([first]) => first > bench.loop[0]) || places[0]);
  }

  function show() {
    const now = bench.loop.join("-");
    choice.value = [...choice.options].some((option) => option.value === now) ? now : "";
    holder.querySelectorAll("[data-bars]").forEach((b) => b.setAttribute("aria-pressed", String(b.dataset.bars === now)));
    back.disabled = !remembered().length;
  }

  choice.addEventListener("change", () => { if (choice.value) go(choice.value.split("-").map(Number)); });
  holder.querySelectorAll("[data-bars]").forEach((button) =>
    button.addEventListener("click", () => go(button.dataset.bars.split("-").map(Number))));
  back.addEventListener("click", goBack);
  on("loop", show);
  show();
  return { next, goBack };
}
