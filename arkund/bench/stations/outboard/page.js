// Outboard: through a simulated box, or a file that was recorded back.
import { notify, post, postForPage } from "../../js/api.js";
import { bench } from "../../js/bench.js";
import { watchJob } from "../../js/jobs.js";

export function start() {
  const holder = document.getElementById("outboard"), box = document.getElementById("outboard-progress");
  const cancel = document.getElementById("outboard-cancel"), through = holder.querySelector("[data-through]");
  const instead = () => document.getElementById("instead").checked;
  let job = holder.dataset.running || null;

  async function run(starting) {
    try {
      job = (await starting()).job;
      await watchJob(job, { box, go: through, cancel });
    } catch (error) {
      notify(error.message);
      through.disabled = false;
    }
  }
  through.addEventListener("click", () => run(() => post(holder.dataset.box, {
    node: document.getElementById("node").value, box: through.dataset.through, instead: instead(), base: bench.revision,
  })));
  holder.querySelectorAll("[data-sending]").forEach((input) => input.addEventListener("change", () => run(async () => {
    const form = new FormData();
    form.append("file", input.files[0]);
    form.append("sending", input.dataset.sending);
    form.append("base", bench.revision);
    form.append("instead", instead() ? "1" : "0");
    return JSON.parse(await postForPage(holder.dataset.bring, form));
  })));
  cancel.addEventListener("click", () => post(`/jobs/${job}/cancel/`).catch((error) => notify(error.message)));
  if (job) run(async () => ({ job }));
}
