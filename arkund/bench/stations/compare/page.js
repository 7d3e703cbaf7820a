// Compare: two revisions by ear and in figures of the loop.
import { getJson } from "../../js/api.js";
import { address, bench, loopFrames, on, query } from "../../js/bench.js";
import { minus } from "../../js/draw.js";
import { offerOther } from "../../js/strip.js";

const ROWS = [["peak_dbfs", "peak", "dBFS"], ["loudness_lufs", "loudness", "LUFS"], ["crest_db", "crest", "dB"]];

export function start() {
  const holder = document.getElementById("compare");
  const a = Number(holder.dataset.a);
  bench.revision = Number(holder.dataset.b);
  offerOther({ rev: a, words: `A · ${a}` });
  document.querySelector("[data-variant=now]").textContent = `B · ${holder.dataset.b}`;

  async function figures() {
    const [start, stop] = loopFrames();
    const ask = (rev) => getJson(`${address("figures/")}?${query({ rev, node: "output", start, frames: stop - start })}`);
    const [one, two] = [await ask(a), await ask(bench.revision)];
    const body = document.getElementById("compare-figures");
    body.replaceChildren();
    for (const [key, words, unit] of ROWS) {
      const row = body.insertRow();
      row.insertCell().textContent = words;
      for (const text of [`${minus(one[key])} ${unit}`, `${minus(two[key])} ${unit}`, `${minus(two[key] - one[key])} dB`]) {
        const cell = row.insertCell();
        cell.className = "fig";
        cell.textContent = text;
      }
    }
  }
  on("loop", figures);
  figures();
}
