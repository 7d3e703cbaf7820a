// First pass: school, rows, progress.
import { getJson, notify, post } from "./api.js";
import { address } from "./bench.js";

export function startFirstPass() {
  const holder = document.getElementById("pass");
  const go = document.getElementById("pass-go"), stop = document.getElementById("pass-cancel");
  const box = document.getElementById("pass-progress");
  let job = holder.dataset.running || null;

  async function school(data) {
    try {
      await post(address("school/"), data);
      location.reload();
    } catch (error) {
      notify(error.message);
    }
  }
  holder.querySelectorAll("[data-school]").forEach((b) => b.addEventListener("click", () => school({ name: b.dataset.school })));
  document.querySelectorAll("[data-row]").forEach((s) => s.addEventListener("change", () => school({ row: s.dataset.row, answer: s.value })));
  document.getElementById("save-school").addEventListener("submit", (event) => {
    event.preventDefault();
    school({ save: event.target.querySelector("input").value });
  });

  async function watch() {
    box.hidden = stop.hidden = false;
    go.disabled = true;
    for (;;) {
      const state = await getJson(`/jobs/${job}/`);
      box.querySelector("progress").value = state.share;
      box.querySelector("p").textContent = `${state.message}, ${Math.round(state.share * 100)} %`;
      if (state.state === "done") { location.reload(); return; }
      if (state.state === "failed" || state.state === "cancelled") {
        notify(state.message);
        break;
      }
      await new Promise((wait) => setTimeout(wait, 250));
    }
    box.hidden = stop.hidden = true;
    go.disabled = false;
  }
  go.addEventListener("click", async () => {
    try {
      job = (await post(holder.dataset.start, {})).job;
      await watch();
    } catch (error) {
      notify(error.message);
      go.disabled = false;
    }
  });
  stop.addEventListener("click", () => post(`/jobs/${job}/cancel/`).catch((error) => notify(error.message)));
  if (job) watch().catch((error) => notify(error.message));
}
