// Bus: the routing, what the bus in hand turns down, the punch card.
import { getJson } from "../../js/api.js";
import { bench, here, on, query, tell } from "../../js/bench.js";
import { drawChain, startChain } from "../../js/chain.js";
import { clear, el, minus } from "../../js/draw.js";
import { hang } from "../dynamics/page.js";
import { drawRouting } from "./routing.js";

export function start() {
  startChain();
  let shown = null;
  const showBlend = startBlend();
  addEventListener("resize", () => { if (shown) drawRouting(shown); }, { signal: here() });
  on("picture", (p) => {
    shown = p;
    drawChain(p.chain || []);
    drawRouting(p);
    showBlend(p);
    const squeeze = clear(document.getElementById("squeeze"));
    if (p.reduction) {
      el(squeeze, "line", { class: "zero", x1: 30, x2: 396, y1: 6, y2: 6 });
      for (const db of [0, 6, 12, 18, 24]) {
        el(squeeze, "line", { class: "gridline", x1: 30, x2: 396, y1: 6 + db * 4, y2: 6 + db * 4 });
        el(squeeze, "text", { x: 26, y: 9 + db * 4, "text-anchor": "end" }, db ? `−${db}` : "0");
      }
      hang(squeeze, p.reduction.map((v) => Math.min(v, 25)), 30, 396, 6, 4);
      document.getElementById("most").textContent = `reduction typically ${minus(p.typical_db)}, at most ${minus(p.most_db)} dB`;
    }
    const body = document.querySelector("#card tbody");
    body.replaceChildren();
    for (const row of p.card) {
      const line = body.insertRow();
      const change = row.after - row.before;
      [row.name, minus(row.before), "→", minus(row.after), row.unit, `${change >= 0 ? "+" : ""}${minus(change)}`, row.wanted || ""].forEach((text, i) => {
        const cell = line.insertCell();
        cell.textContent = text;
        if ([1, 3, 5].includes(i)) cell.className = "fig";
        if (i === 4) cell.className = "quiet";
        if (i === 6) cell.className = row.met === false ? "text-trouble whitespace-nowrap" : "quiet whitespace-nowrap";
      });
    }
  });
}

// The punch over the blend: asked for when all else is drawn and nothing is in the hand, shown until it is
// measured anew.
const QUIET_MS = 900;
function startBlend() {
  const { blend } = document.getElementById("routing").dataset;
  let due = 0, last = null;
  return ({ bus }) => {
    if (!blend) return;
    if (last) tell("measured", last);
    clearTimeout(due);
    if (Object.keys(bench.patch).length) return;
    const visit = here();
    due = setTimeout(async () => {
      try {
        const { rulers } = await getJson(`${blend}?${query({ bus })}`);
        if (visit.aborted) return;
        last = rulers;
        tell("measured", rulers);
      } catch { /* the next picture asks again */ }
    }, QUIET_MS);
  };
}
