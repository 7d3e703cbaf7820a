// What is to be done later: noted where it was heard, ticked in the log.
import { notify, post } from "./api.js";
import { bench } from "./bench.js";
import { player } from "./player.js";
import { barAt } from "./bars.js";

const dialog = () => document.getElementById("todo");

// Opens with the bar under the playhead and the mic in hand; a finding brings its own words.
export function noteToDo(text = "") {
  const form = dialog().querySelector("form");
  form.text.value = text.slice(0, 300);
  form.bar.value = Math.min(Math.max(1, Math.floor(barAt(bench.bar_starts, player.position() / bench.rate))), bench.bars);
  form.mic.value = bench.mic;
  dialog().showModal();
  form.text.focus();
}

export function startToDos() {
  const form = dialog().querySelector("form");
  form.querySelector("[data-close]").addEventListener("click", () => dialog().close());
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const bar = form.bar.value.trim();
    try {
      await post(form.dataset.noteAt, { text: form.text.value, mic: form.mic.value, bar: bar ? Number(bar) : null });
      dialog().close();
      notify("Noted. The log lists what is to do.");
    } catch (error) {
      notify(error.message);
    }
  });
  document.addEventListener("change", async ({ target }) => {
    if (!target.matches("[data-tick]")) return;
    try {
      await post(target.dataset.url, { number: Number(target.dataset.tick), done: target.checked });
      target.closest("li").classList.toggle("done", target.checked);
    } catch (error) {
      target.checked = !target.checked;
      notify(error.message);
    }
  });
}
