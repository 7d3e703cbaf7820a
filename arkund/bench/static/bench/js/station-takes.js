// Edit, takes: a strip of scatter a cell, the path an ink line, joins as rings on it.
import { notify, post } from "./api.js";
import { address, bench, moveTo, on, setLoop, tell } from "./bench.js";
import { clear, el, familyOf, mark, minus } from "./draw.js";
import { player } from "./player.js";

const LEFT = 60, TOP = 34;

export function startTakes() {
  const svg = document.getElementById("takes");
  let picture = null, cursor = null, nextJoin = 0;

  // One choice at a time: joins are placed for the path as it stands.
  let placing = false;
  async function choose(path) {
    if (placing) return;
    placing = true;
    document.getElementById("path-cost").textContent = "placing the joins …";
    try {
      moveTo(await post(address("comp/"), { path, base: bench.revision }));
      tell("sound");
      tell("try");
    } catch (error) {
      notify(error.message);
      if (error.status === 409) setTimeout(() => location.reload(), 2500);
    }
    placing = false;
  }

  const with1 = (part, take) => picture.chosen.map((t, n) => (n === part ? take : t));

  function draw() {
    clear(svg);
    const { parts, takes, cells, chosen, proposed, joins } = picture;
    const bars = parts.reduce((sum, p) => sum + p.bars, 0);
    const high = Math.min(100, 290 / takes.length);
    svg.setAttribute("viewBox", `0 0 700 ${TOP + takes.length * high + 8}`);
    let at = LEFT;
    const lefts = [], widths = [];
    parts.forEach((p, n) => {
      lefts[n] = at;
      widths[n] = Math.max((p.bars / bars) * (690 - LEFT), 34);
      at += widths[n];
    });
    const squeeze = (690 - LEFT) / (at - LEFT);
    parts.forEach((p, n) => { lefts[n] = LEFT + (lefts[n] - LEFT) * squeeze; widths[n] *= squeeze; });
    parts.forEach((p, n) => {
      el(svg, "text", { x: lefts[n] + 4, y: 14, class: "strong" }, p.name);
      el(svg, "text", { x: lefts[n] + 4, y: 26 }, `bar ${p.start_bar}`);
    });
    takes.forEach((take, t) => {
      const top = TOP + t * high;
      el(svg, "text", { x: 4, y: top + high / 2 + 3, class: "strong" }, `take ${take}`);
      parts.forEach((p, n) => {
        const cell = cells[n][t];
        const group = el(svg, "g", { class: `cell${chosen[n] === take ? " chosen" : ""}${proposed[n] === take ? " proposed" : ""}`, role: "button", tabindex: 0, "aria-label": `take ${take}, ${p.name} from bar ${p.start_bar}: ${minus(cell.cost)} points, ${cell.reason}`, "data-cell": `${n}-${take}` });
        el(group, "rect", { class: "cell-box", x: lefts[n] + 1, y: top + 2, width: widths[n] - 2, height: high - 4 });
        el(group, "line", { class: "gridline", x1: lefts[n] + 2, x2: lefts[n] + widths[n] - 2, y1: top + high / 2, y2: top + high / 2 });
        for (const [share, ms, piece] of cell.marks) {
          const y = top + high / 2 - (Math.max(-20, Math.min(20, ms)) / 20) * (high / 2 - 12);
          mark(group, familyOf(piece), lefts[n] + 3 + share * (widths[n] - 6), y, 1.5, { class: `solid ${familyOf(piece)}` });
        }
        el(group, "text", { class: cell.missing || cell.extra ? "bad" : "strong", x: lefts[n] + 5, y: top + 13 }, minus(cell.cost));
        const say = () => {
          cursor = [n, t];
          document.getElementById("cell-words").textContent = `take ${take}, ${p.name} from bar ${p.start_bar}: ${minus(cell.cost)} points: ${cell.reason}`;
        };
        group.addEventListener("pointerenter", say);
        group.addEventListener("focus", say);
        group.addEventListener("click", () => choose(with1(n, take)));
        group.addEventListener("keydown", (event) => {
          const moves = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };
          if (event.key === "Enter") choose(with1(n, take));
          else if (moves[event.key]) {
            const [dn, dt] = moves[event.key];
            svg.querySelector(`[data-cell="${n + dn}-${takes[t + dt]}"]`)?.focus();
          } else return;
          event.preventDefault();
          event.stopPropagation();
        });
      });
    });
    const middle = (n) => TOP + (takes.indexOf(chosen[n]) + 0.5) * high;
    const line = chosen.map((_, n) => `${n ? "L" : "M"}${lefts[n] + 2} ${middle(n)}L${lefts[n] + widths[n] - 2} ${middle(n)}`).join("");
    el(svg, "path", { class: "path-line", d: line });
    for (const join of joins) {
      const y = (middle(join.part) + middle(Math.max(join.part - 1, 0))) / 2;
      const ring = el(svg, "circle", { class: join.warning ? "join heard" : "join", cx: lefts[join.part], cy: y, r: 5 });
      el(ring, "title", {}, join.words);
    }
    if (cursor) svg.querySelector(`[data-cell="${cursor[0]}-${takes[cursor[1]]}"]`)?.classList.add("at");
  }

  function fillJoins() {
    const body = document.querySelector("#joins tbody");
    body.replaceChildren();
    for (const join of picture.joins) {
      const row = body.insertRow();
      row.insertCell().textContent = join.words;
      const cell = row.insertCell();
      cell.textContent = join.warning || `cymbals ${minus(join.ring_db, 0)} dB under their strokes there`;
      cell.className = join.warning ? "text-trouble font-semibold" : "quiet";
    }
    if (!picture.joins.length) body.insertRow().insertCell().textContent = "None: one take sounds throughout.";
    document.getElementById("path-cost").textContent = `this path ${minus(picture.cost.chosen)} points, the cheapest ${minus(picture.cost.proposed)}`;
    document.getElementById("next-join").disabled = !picture.joins.length;
  }

  // The bar before a join and the bar after it.
  function stepJoin() {
    if (!picture || !picture.joins.length) return;
    const join = picture.joins[nextJoin % picture.joins.length];
    nextJoin += 1;
    setLoop(Math.max(1, join.bar - 1), join.bar);
    document.getElementById("cell-words").textContent = join.words;
    if (!player.playing) player.play().catch((error) => notify(error.message));
  }

  document.getElementById("cheapest").addEventListener("click", () => picture && choose(picture.proposed));
  document.getElementById("next-join").addEventListener("click", stepJoin);
  on("picture", (p) => { picture = p; draw(); fillJoins(); });
  return { stepJoin };
}
