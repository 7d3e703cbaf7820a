// Edit, takes: a strip of scatter a cell, the path an ink line, joins as rings on it.
import { notify, post } from "../../js/api.js";
import { address, bench, hearSpan, keepValues, moveTo, on, tell } from "../../js/bench.js";
import { clear, el, familyOf, mark, minus } from "../../js/draw.js";
import { player } from "../../js/player.js";
import { again } from "../../js/visit.js";

const LEFT = 60, TOP = 34;

export function start() {
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
      if (error.status === 409) setTimeout(again, 2500);
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

  function hear(item, words) {
    hearSpan(...item.hear, words);
    if (!player.playing) player.play().catch((error) => notify(error.message));
  }

  const button = (cell, words, run) => {
    const made = cell.appendChild(document.createElement("button"));
    made.className = "act";
    made.textContent = words;
    made.addEventListener("click", run);
  };

  function fadeField(cell, value, path, what) {
    const input = cell.appendChild(document.createElement("input"));
    input.className = "field w-[52px]";
    input.value = minus(value, value % 1 ? 1 : 0);
    input.setAttribute("aria-label", `Crossfade of ${what}, ms`);
    input.addEventListener("change", () => {
      const ms = Number(input.value.replace(",", ".").replace("ms", ""));
      if (Number.isNaN(ms) || ms < 0.1 || ms > 200) { notify("A crossfade lasts from 0.1 to 200 ms."); input.value = minus(value, 1); } else keepValues({ [path]: ms });
    });
    cell.append(" ms");
  }

  function fillJoins() {
    const body = document.querySelector("#joins tbody");
    body.replaceChildren();
    for (const join of picture.joins) {
      const row = body.insertRow();
      button(row.insertCell(), join.words, () => hear(join, `around ${join.place}`));
      const cell = row.insertCell();
      cell.textContent = join.warning || `cymbals ${minus(join.ring_db, 0)} dB under their hits there`;
      cell.className = join.warning ? "text-trouble font-semibold" : "quiet";
      fadeField(row.insertCell(), join.fade_ms, `comp.${join.number}.fade_ms`, join.words);
      const shape = row.insertCell().appendChild(document.createElement("select"));
      shape.className = "field";
      shape.setAttribute("aria-label", `Shape of ${join.words}`);
      shape.add(new Option("keeps power", "power"));
      shape.add(new Option("keeps level", "level"));
      shape.value = join.shape;
      shape.addEventListener("change", () => keepValues({ [`comp.${join.number}.shape`]: shape.value }));
    }
    if (!picture.joins.length) body.insertRow().insertCell().textContent = "None: one take sounds throughout.";
    document.getElementById("path-cost").textContent = `this path ${minus(picture.cost.chosen)} points, the cheapest ${minus(picture.cost.proposed)}${picture.avoids.length ? `. The cheapest keeps clear of ${picture.avoids.join("; ")}.` : ""}`;
    document.getElementById("next-join").disabled = !picture.joins.length && !picture.copies.length;
    const copies = document.querySelector("#copies tbody");
    copies.replaceChildren();
    picture.copies.forEach((copy, n) => {
      const row = copies.insertRow();
      button(row.insertCell(), `${copy.label} at ${copy.place}`, () => hear(copy, `around ${copy.place}`));
      fadeField(row.insertCell(), copy.fade_ms, `copies.${n}.fade_ms`, `copy ${n + 1}`);
      button(row.insertCell(), "remove", () => keepValues({ copies: bench.copies.filter((_, m) => m !== n) }));
    });
    document.getElementById("copies-head").hidden = !picture.copies.length;
  }

  // Two beats before a join, or a copy, and two after it.
  function stepJoin() {
    const places = picture ? [...picture.joins, ...picture.copies] : [];
    if (!places.length) return;
    const place = places[nextJoin % places.length];
    nextJoin += 1;
    hear(place, `around ${place.place}`);
    document.getElementById("cell-words").textContent = place.words || `${place.label} at ${place.place}`;
  }

  document.getElementById("copy-bars").addEventListener("submit", async (event) => {
    event.preventDefault();
    const form = new FormData(event.target);
    const data = Object.fromEntries(["take", "first", "last", "to_bar", "times"].map((k) => [k, Number(form.get(k))]));
    try {
      moveTo(await post(address("copy/"), { ...data, base: bench.revision }));
      tell("sound");
      tell("try");
    } catch (error) {
      notify(error.message);
    }
  });
  on("kept", (sheet) => { if (sheet) bench.copies = sheet.copies; });

  document.getElementById("cheapest").addEventListener("click", () => picture && choose(picture.proposed));
  document.getElementById("next-join").addEventListener("click", stepJoin);
  on("picture", (p) => { picture = p; draw(); fillJoins(); });
  return { nextJoin: stepJoin };
}
