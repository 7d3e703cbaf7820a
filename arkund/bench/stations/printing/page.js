// Print: start, watch, cancel.
import { notify, post } from "../../js/api.js";
import { watchJob } from "../../js/jobs.js";

export function start() {
  const form = document.getElementById("print-form");
  const go = document.getElementById("print-go"), cancel = document.getElementById("print-cancel");
  const box = document.getElementById("print-progress");
  let job = form.dataset.running || null;

  // What will be written is what is ticked.
  const format = document.getElementById("format"), tap = document.getElementById("tap");
  function list() {
    const ticked = [...form.querySelectorAll("[name=stems]:checked")].map((c) => c.value);
    document.querySelectorAll("[data-kind]").forEach((names) => { names.hidden = !ticked.includes(names.dataset.kind); });
    document.querySelectorAll("[data-suffix]").forEach((suffix) => { suffix.textContent = format.value === "flac" ? ".flac" : ".wav"; });
    document.querySelectorAll("[data-tap]").forEach((words) => { words.hidden = words.dataset.tap !== tap.value; });
    go.disabled = !ticked.length;
  }
  form.addEventListener("change", list);
  list();

  const watch = () => watchJob(job, { box, go, cancel });

  go.addEventListener("click", async () => {
    const stems = [...form.querySelectorAll("[name=stems]:checked")].map((c) => c.value);
    try {
      job = (await post(form.dataset.start, { stems, format: format.value, through_bus: tap.value === "bus" })).job;
      await watch();
    } catch (error) {
      notify(error.message);
      go.disabled = false;
    }
  });
  cancel.addEventListener("click", () => post(`/jobs/${job}/cancel/`).catch((error) => notify(error.message)));
  if (job) watch().catch((error) => notify(error.message));
}
