// Ears: two versions of the loop on one clock; the one that is heard is chosen.
import { notify, post } from "../../js/api.js";
import { address, bench, here, loopFrames, on } from "../../js/bench.js";
import { player } from "../../js/player.js";
import { chooseVariant } from "../../js/strip.js";

export function start() {
  const box = document.getElementById("drill");
  const part = (name) => box.querySelector(`[data-part=${name}]`);
  const go = part("go");
  let round = null, side = 0, isBusy = false;

  function hear(n) {
    if (!round) return;
    side = n;
    box.querySelectorAll("[data-side]").forEach((b) => b.setAttribute("aria-pressed", String(Number(b.dataset.side) === n)));
    go.textContent = `Choose ${"AB"[n]}`;
    chooseVariant(`rung ${n + 1}`);
  }

  async function ask() {
    const [start, stop] = loopFrames();
    go.disabled = true;
    part("asks").textContent = "preparing the next round …";
    const made = await post(address("ears/ask/"), { skill: box.dataset.skill, mic: bench.mic, start, stop });
    round = made;
    part("said").textContent = "";
    part("asks").textContent = made.asks;
    part("sides").hidden = false;
    player.hear(made.node);
    player.setRungs(made.sides.map((one) => ({ rev: bench.revision, patch: one.patch, db: one.gain_db })));
    hear(0);
    if (!player.playing) await player.play();
  }

  async function answer() {
    const told = await post(address("ears/answer/"), { number: round.number, side });
    round = null;
    part("said").textContent = told.said;
    part("said").className = `said ${told.right ? "text-applied" : "text-trouble"}`;
    go.textContent = "Next round";
    const row = document.querySelector(`[data-score="${told.score.name}"]`);
    const { now, unit, rounds, right } = told.score;
    row.querySelector("[data-part=now]").textContent = now ? `${now} ${unit}` : "–";
    row.querySelector("[data-part=rounds]").textContent = rounds;
    row.querySelector("[data-part=right]").textContent = right;
  }

  async function choose() {
    if (isBusy) return;
    isBusy = true;
    try {
      await (round ? answer() : ask());
    } catch (error) {
      notify(error.message);
      if (!round) part("asks").textContent = error.message;
    } finally {
      isBusy = false;
      go.disabled = false;
    }
  }

  function stop() {
    round = null;
    chooseVariant("now");
    player.setRungs([]);
    player.hear(document.querySelector(".hearing [aria-pressed=true]")?.dataset.node || "output");
  }

  go.addEventListener("click", choose);
  box.querySelectorAll("[data-side]").forEach((b) => b.addEventListener("click", () => hear(Number(b.dataset.side))));
  // Other bars sound otherwise: the round is asked anew there.
  on("loop", () => { if (round) ask().catch((error) => notify(error.message)); });
  here().addEventListener("abort", stop);
  return { turn: () => hear(1 - side), choose };
}
