// What is written down: to-dos where they were heard, why a change was made, names for revisions.
import { notify, post } from "./api.js";
import { barAt } from "./bars.js";
import { address, bench, moveTo } from "./bench.js";
import { player } from "./player.js";
import { again } from "./visit.js";

const toDo = () => document.getElementById("todo");
const why = () => document.getElementById("why");

// Opens with the bar under the playhead and the mic in hand; a finding brings its own words.
export function noteToDo(text = "") {
  const form = toDo().querySelector("form");
  const bar = Math.floor(barAt(bench.bar_starts, player.position() / bench.rate));
  form.text.value = text.slice(0, 300);
  form.bar.value = Math.min(Math.max(1, bar), bench.bars);
  form.mic.value = bench.mic;
  toDo().showModal();
  form.text.focus();
}

// Of the latest change, or of one in the log.
export function askWhy(number = bench.revision, reason = "") {
  const form = why().querySelector("form");
  form.dataset.number = number;
  form.why.value = reason;
  why().querySelector("[data-of]").textContent = number;
  why().showModal();
  form.why.focus();
}

async function send(part, data, then) {
  try {
    const made = await post(address(part), data);
    then(made);
  } catch (error) {
    notify(error.message);
  }
}

function submitted(event) {
  const form = event.target;
  if (form.matches("#todo form")) {
    event.preventDefault();
    const bar = form.bar.value.trim();
    send("todo/add/", { text: form.text.value, mic: form.mic.value, bar: bar ? Number(bar) : null }, () => {
      toDo().close();
      notify("Noted. The log lists what is to do.");
    });
  } else if (form.matches("#why form")) {
    event.preventDefault();
    send("why/", { number: Number(form.dataset.number), why: form.why.value }, () => {
      why().close();
      if (bench.station === "log") again();
    });
  } else if (form.matches("[data-snapshot]")) {
    event.preventDefault();
    send("snapshot/name/", { name: form.name.value }, again);
  }
}

function clicked({ target }) {
  const button = target.closest("[data-close], [data-why], [data-go-back], [data-forget]");
  if (!button) return;
  if (button.dataset.why) askWhy(Number(button.dataset.why), button.dataset.reason);
  else if (button.dataset.forget) send("snapshot/forget/", { name: button.dataset.forget }, again);
  else if (button.dataset.goBack) send("go-back/", { called: button.dataset.goBack }, (made) => { moveTo(made); again(); });
  else button.closest("dialog").close();
}

function changed({ target }) {
  if (target.matches("[data-tick]")) {
    const done = target.checked;
    send("todo/tick/", { number: Number(target.dataset.tick), done }, () => target.closest("li").classList.toggle("done", done));
  } else if (target.matches("[data-sift] select")) target.form.requestSubmit();
}

export function startNotes() {
  document.addEventListener("submit", submitted);
  document.addEventListener("click", clicked);
  document.addEventListener("change", changed);
}
