// Lists that Tab enters once: the arrows go on inside, Home and End to their ends, and Tab leaves again where
// the work begins.
const LISTS = ".rail, .plan, .mics, .passages";
const ITEMS = "a[href], button:not(:disabled), select";
const WAYS = {
  ArrowRight: (n) => n + 1,
  ArrowDown: (n) => n + 1,
  ArrowLeft: (n) => n - 1,
  ArrowUp: (n) => n - 1,
  Home: () => 0,
  End: () => -1,
};

const itemsOf = (list) => [...list.querySelectorAll(ITEMS)];

// What Tab finds first: what is chosen, else the first. All lists of mics are one.
function lists() {
  const all = [...document.querySelectorAll(LISTS)], mics = all.filter((one) => one.matches(".mics"));
  return [...all.filter((one) => !mics.includes(one)).map(itemsOf), mics.flatMap(itemsOf)].filter((items) => items.length);
}

export function startRoving() {
  for (const items of lists()) {
    const first = items.find((item) => item.matches("[aria-current], .chosen")) || items[0];
    for (const item of items) item.setAttribute("tabindex", item === first ? 0 : -1);
  }
}

document.addEventListener("keydown", (event) => {
  const way = WAYS[event.key];
  if (!way || event.altKey || event.target.matches?.("select, input")) return;
  const items = event.target.closest?.(LISTS) && lists().find((one) => one.includes(event.target));
  if (!items) return;
  const next = items.at(way(items.indexOf(event.target)) % items.length);
  for (const item of items) item.setAttribute("tabindex", item === next ? 0 : -1);
  next.focus();
  event.preventDefault();
  event.stopPropagation();
}, true);
