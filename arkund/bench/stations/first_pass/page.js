// First pass: school, rows, progress.
import { notify, post } from "../../js/api.js";
import { address, bench, setLoop } from "../../js/bench.js";
import { watchJob } from "../../js/jobs.js";
import { player } from "../../js/player.js";
import { chooseVariant, offerOther } from "../../js/strip.js";
import { again } from "../../js/visit.js";

export function start() {
  const holder = document.getElementById("pass");
  const go = document.getElementById("pass-go"), stop = document.getElementById("pass-cancel");
  const box = document.getElementById("pass-progress");
  let job = holder.dataset.running || null;

  async function school(data) {
    try {
      await post(address("school/"), data);
      again();
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

  document.querySelectorAll("[data-leave]").forEach((box) => box.addEventListener("change", () => {
    document.getElementById("pass-count").textContent = document.querySelectorAll("[data-leave]:checked").length;
  }));

  // A change is heard in place: its mic where it plays loudest, with it (2) and without it (4).
  document.querySelectorAll("[data-hear]").forEach((button) => button.addEventListener("click", () => {
    const { hear, of, where } = button.dataset;
    if (where) setLoop(...where.split("-").map(Number));
    const shown = document.querySelector(`.strip [data-node="${CSS.escape(of)}"]`);
    if (shown) shown.click(); else player.hear(of);
    offerOther({ rev: bench.revision, patch: hear, words: "without it" });
    chooseVariant("now");
    if (!player.playing) player.play().catch((error) => notify(error.message));
  }));

  const watch = () => watchJob(job, { box, go, cancel: stop });

  const preview = document.getElementById("pass-preview");
  preview.addEventListener("click", () => start({ preview: true }));
  go.addEventListener("click", () => {
    const left = [...document.querySelectorAll("[data-leave]:not(:checked)")].map((box) => box.dataset.leave);
    start({ without: left });
  });
  async function start(asked) {
    preview.disabled = true;
    try {
      job = (await post(holder.dataset.start, asked)).job;
      await watch();
    } catch (error) {
      notify(error.message);
      go.disabled = false;
    }
    preview.disabled = false;
  }
  stop.addEventListener("click", () => post(`/jobs/${job}/cancel/`).catch((error) => notify(error.message)));
  if (job) watch().catch((error) => notify(error.message));
}
