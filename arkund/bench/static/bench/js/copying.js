// A chain copied to another drum: what it would set there is shown before it is kept. And chains of one's own.
import { getJson, notify, post } from "./api.js";
import { address, bench, keepTry, keepValues, moveTo, query } from "./bench.js";
import { again, visit } from "./visit.js";

export function startCopying() {
  const form = document.querySelector("[data-copy-chain]");
  if (!form) return;
  const box = document.getElementById("copying"), keep = document.getElementById("copying-keep");
  let found = null;
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const { to } = form.elements;
    try {
      found = { ...(await getJson(`${address("chain/fitted/")}?${query({ from: form.dataset.copyChain, to: to.value })}`)), to: to.value };
      show(box.querySelector("tbody"), found.rows);
      keep.textContent = found.rows.length ? `Copy to ${to.selectedOptions[0].textContent}` : "Nothing differs";
      keep.disabled = !found.rows.length;
      box.showPopover();
    } catch (error) {
      notify(error.message);
    }
  });
  keep.addEventListener("click", async () => {
    box.hidePopover();
    await keepValues(found.patch);
    visit(`?mic=${found.to}&bars=${bench.loop.join("-")}`);
  });
}

export function startOwnChains() {
  const box = document.getElementById("own-chains");
  if (!box) return;
  const mic = box.dataset.ownChains;
  box.querySelector("form").addEventListener("submit", async (event) => {
    event.preventDefault();
    const { name } = event.target.elements;
    try {
      const saved = await post(address("chain/save/"), { mic, name: name.value });
      box.hidePopover();
      notify(`Saved as “${saved.name}”.`);
      again();
    } catch (error) {
      notify(error.message);
    }
  });
  box.querySelectorAll("[data-use-chain]").forEach((button) => button.addEventListener("click", async () => {
    box.hidePopover();
    try {
      await keepTry();
      moveTo(await post(address("chain/use/"), { mic, name: button.dataset.useChain, base: bench.revision }));
      again();
    } catch (error) {
      notify(error.message);
    }
  }));
}

function show(body, rows) {
  body.replaceChildren();
  for (const row of rows) {
    const line = body.insertRow();
    [row.what, row.now, "→", row.then].forEach((text, n) => {
      const cell = line.insertCell();
      cell.textContent = text;
      if (n % 2) cell.className = "fig";
    });
  }
}
