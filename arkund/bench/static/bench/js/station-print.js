// Print: start, watch, cancel.
import { getJson, notify, post } from "./api.js";

export function startPrint() {
  const form = document.getElementById("print-form");
  const go = document.getElementById("print-go"), cancel = document.getElementById("print-cancel");
  const box = document.getElementById("print-progress");
  let job = form.dataset.running || null;

  async function watch() {
    box.hidden = cancel.hidden = false;
    go.disabled = true;
    const began = performance.now();
    for (;;) {
      const state = await getJson(`/jobs/${job}/`);
      box.querySelector("progress").value = state.share;
      const left = state.share > 0.05 ? ((performance.now() - began) / state.share) * (1 - state.share) : 0;
      box.querySelector("p").textContent = `${state.message}, ${Math.round(state.share * 100)} %${left > 1500 ? `, ${Math.ceil(left / 1000)} s to go` : ""}`;
      if (state.state === "done") { location.reload(); return; }
      if (state.state === "failed" || state.state === "cancelled") {
        notify(state.message);
        break;
      }
      await new Promise((wait) => setTimeout(wait, 250));
    }
    box.hidden = cancel.hidden = true;
    go.disabled = false;
  }

  go.addEventListener("click", async () => {
    const stems = [...form.querySelectorAll("[name=stems]:checked")].map((c) => c.value);
    try {
      job = (await post(form.dataset.start, { stems, format: document.getElementById("format").value })).job;
      await watch();
    } catch (error) {
      notify(error.message);
      go.disabled = false;
    }
  });
  cancel.addEventListener("click", () => post(`/jobs/${job}/cancel/`).catch((error) => notify(error.message)));
  if (job) watch().catch((error) => notify(error.message));
}
