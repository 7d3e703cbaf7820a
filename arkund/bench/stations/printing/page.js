// Print: choose, look over what would be written, start, watch, cancel.
import { notify, post, postForPage } from "../../js/api.js";
import { watchJob } from "../../js/jobs.js";

const WAIT_MS = 250;

export function start() {
  const form = document.getElementById("print-form"), forecast = document.getElementById("forecast");
  const go = document.getElementById("print-go"), cancel = document.getElementById("print-cancel");
  const box = document.getElementById("print-progress");
  let job = form.dataset.running || null, waiting = 0, asked = 0;

  const boxes = (name, within, state) => (
    [...within.querySelectorAll(`[name=${name}]${state}`)].map((one) => one.value)
  );

  function wish() {
    const values = new FormData(form);
    return {
      stems: boxes("stems", form, ":checked"), tap: values.get("tap"), format: values.get("format"),
      pattern: values.get("pattern"), left_out: boxes("chosen", forecast, ":not(:checked)"),
    };
  }

  function explain() {
    document.querySelectorAll("[data-tap]").forEach((words) => { words.hidden = words.dataset.tap !== form.tap.value; });
    // Mono taps are of mics.
    const isMono = ["edited", "cleaned"].includes(form.tap.value);
    form.querySelectorAll("[name=stems]").forEach((kind) => { kind.disabled = isMono && kind.value !== "mics"; });
    go.disabled = Boolean(forecast.querySelector("[data-refused]"));
  }

  async function look() {
    const number = (asked += 1);
    try {
      const page = await postForPage(form.dataset.forecast, wish());
      if (number !== asked) return;
      const held = document.activeElement?.name === "chosen" ? document.activeElement.value : null;
      forecast.innerHTML = page;
      if (held) forecast.querySelector(`[name=chosen][value="${CSS.escape(held)}"]`)?.focus();
    } catch (error) {
      notify(error.message);
    }
    explain();
  }

  function changed() {
    explain();
    clearTimeout(waiting);
    waiting = setTimeout(look, WAIT_MS);
  }
  form.addEventListener("input", changed);
  forecast.addEventListener("change", changed);
  explain();

  const watch = () => watchJob(job, { box, go, cancel });

  form.addEventListener("submit", async () => {
    try {
      job = (await post(form.dataset.start, wish())).job;
      await watch();
    } catch (error) {
      notify(error.message);
      go.disabled = false;
    }
  });
  cancel.addEventListener("click", () => post(`/jobs/${job}/cancel/`).catch((error) => notify(error.message)));
  if (job) watch().catch((error) => notify(error.message));
}
