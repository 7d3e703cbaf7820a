// The stations' pictures: each draws what the server has measured.
import { address, bench, on, query, tell } from "./bench.js";
import { getJson, notify } from "./api.js";

let wanted = 0, busy = false, again = false;

// Fetch the picture of the present revision and try; while dragging, the newest state only.
async function refresh() {
  if (busy) { again = true; return; }
  busy = true;
  do {
    again = false;
    const mine = ++wanted;
    try {
      const picture = await getJson(`${address(`picture/${bench.station}/`)}?${query()}`);
      if (mine === wanted) tell("picture", picture);
    } catch (error) {
      notify(error.message);
    }
  } while (again);
  busy = false;
}

export function startPictures() {
  const stations = ["edit", "align", "level", "clean", "eq", "dynamics", "bus"];
  if (!stations.includes(bench.station)) return;
  on("try", () => {
    const chip = document.getElementById("trying");
    const entries = Object.entries(bench.patch);
    chip.hidden = !entries.length;
    if (entries.length) chip.textContent = "trying – let go to keep, Esc to leave";
    refresh();
  });
  // What was tried is drawn already; sound comes before drawing it again from the kept revision.
  let later = 0;
  on("kept", () => {
    document.getElementById("trying").hidden = true;
    clearTimeout(later);
    later = setTimeout(refresh, 600);
  });
  on("loop", refresh);
  refresh();
}
