// Watching long work: how far it is and how long yet, until it is over.
import { getJson, notify } from "./api.js";
import { again } from "./visit.js";

// Parts: the box that holds progress and words, the button that starts, the one that cancels.
export async function watchJob(job, { box, go, cancel }) {
  box.hidden = cancel.hidden = false;
  go.disabled = true;
  const began = performance.now();
  let least = Infinity; // time left never counts up
  for (;;) {
    const state = await getJson(`/jobs/${job}/`);
    box.querySelector("progress").value = state.share;
    if (state.share > 0.05) least = Math.min(least, ((performance.now() - began) / state.share) * (1 - state.share));
    const left = Number.isFinite(least) ? least : 0;
    box.querySelector("p").textContent = `${state.message}, ${Math.round(state.share * 100)} %${left > 1500 ? `, ${Math.ceil(left / 1000)} s to go` : ""}`;
    if (state.state === "done") { again(); return; }
    if (state.state === "failed" || state.state === "cancelled") {
      notify(state.message);
      break;
    }
    await new Promise((wait) => setTimeout(wait, 250));
  }
  box.hidden = cancel.hidden = true;
  go.disabled = false;
}
