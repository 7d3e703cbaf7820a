// Print: start, watch, cancel.
import { notify, post } from "../../js/api.js";
import { watchJob } from "../../js/jobs.js";

export function start() {
  const form = document.getElementById("print-form");
  const go = document.getElementById("print-go"), cancel = document.getElementById("print-cancel");
  const box = document.getElementById("print-progress");
  let job = form.dataset.running || null;

  const watch = () => watchJob(job, { box, go, cancel });

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
