// The stations' pictures: each draws what the server has measured.
import { address, bench, on, query, tell } from "./bench.js";
import { getJson, notify } from "./api.js";
import { player } from "./player.js";

// Who waits longer than this is told for what.
const SAID_AFTER_MS = 300;

let wanted = 0, busy = false, again = false, shown = "";

// Fetch the picture of the present revision and try; while dragging, the newest state only.
async function refresh() {
  if (busy) { again = true; return; }
  busy = true;
  do {
    again = false;
    const mine = ++wanted, text = query();
    if (text === shown) continue;
    const saying = setTimeout(() => say(true), SAID_AFTER_MS);
    try {
      const picture = await getJson(`${address(`picture/${bench.station}/`)}?${text}`);
      // One that another station asked for is not shown, even where this one asks for the same.
      if (mine !== wanted) continue;
      shown = text;
      tell("picture", picture);
    } catch (error) {
      notify(error.message);
    } finally {
      clearTimeout(saying);
      say(false);
    }
  } while (again);
  busy = false;
}

function say(is) {
  document.getElementById("drawing").hidden = !is;
}

let due = 0;
function soon(ms) {
  clearTimeout(due);
  due = setTimeout(refresh, ms);
}

export function startPictures() {
  if (!bench.draws) return;
  shown = "";
  wanted += 1; // what is under way was asked for by another station
  on("try", () => {
    const chip = document.getElementById("trying");
    const entries = Object.entries(bench.patch);
    chip.hidden = !entries.length;
    if (entries.length) chip.textContent = "trying – let go to keep, Esc to leave";
    soon(70);
  });
  // Let go: what is heard comes before what is drawn.
  on("sound", () => soon(player.playing ? 700 : 40));
  on("swapped", () => soon(10));
  on("kept", () => {
    document.getElementById("trying").hidden = true;
    soon(600);
  });
  on("loop", refresh);
  refresh();
}
