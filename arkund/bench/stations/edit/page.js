// Edit: hits early and late over the lanes, rules, single hits, and the lists to walk.
import { notify, post } from "../../js/api.js";
import { address, barAt, bench, keepValues, moveTo, on, setLoop, tell } from "../../js/bench.js";
import { clear, el, familyOf, label, minus } from "../../js/draw.js";
import { startLanes } from "../../js/lanes.js";
import { player } from "../../js/player.js";
import { again, visit } from "../../js/visit.js";

const NUDGE_MS = 1, FINE_MS = 0.1;

export function start() {
  const box = document.getElementById("hit");
  const tools = document.getElementById("hit-tools");
  const pieces = document.getElementById("hit-piece"), kinds = document.getElementById("hit-kind");
  const at = { unexplained: -1, edits: -1, never: -1 };
  let picture = null, places = [], asked = [];

  async function send(part, data) {
    try {
      moveTo(await post(address(part), { ...data, base: bench.revision }));
      tell("sound");
      tell("try");
    } catch (error) {
      notify(error.message);
      if (error.status === 409) setTimeout(again, 2500);
    }
  }

  startNotes();
  document.getElementById("hits-from-file").addEventListener("submit", async ({ target }) => {
    const told = new FormData(target);
    told.set("base", bench.revision);
    told.set("map", [...target.querySelectorAll("[data-note]")].map((choice) => `${choice.dataset.note}=${choice.value}`).join(", "));
    try {
      await post(address("edit/from-file/"), told);
      again();
    } catch (error) {
      notify(error.message);
    }
  });

  function showHits(some) {
    tools.hidden = !some.length;
    paste.hidden = !copied || some.length !== 1 || some[0].id === copied;
    if (!some.length) box.textContent = "none chosen; click one, Shift-drag a box, N and B step through this drum’s";
    else if (some.length > 1) box.textContent = `${some.length} hits chosen`;
    else {
      const [h] = some;
      const moved = h.moved_ms ? ` · moved ${h.moved_ms > 0 ? "+" : ""}${minus(h.moved_ms)} ms` : "";
      box.textContent = `${label(h.piece)} at ${h.t.toFixed(4)} s · ${h.kind} · velocity ${h.v} · ${minus(Math.abs(h.late_ms))} ms ${h.late_ms > 0 ? "late" : "early"}${moved} · sure ${Math.round(h.sure * 100)} %`;
      pieces.value = h.piece;
      kinds.value = h.kind;
    }
  }

  const lanes = startLanes(showHits, {
    move: (hit, to_s, free) => send("move/", { id: hit.id, to_s, free }),
    add: (piece, at_s) => send("hits/", { piece, at_s }),
  });
  const ids = () => lanes.chosen().map((h) => h.id);
  const change = (what) => ids().length && send("hits/", { ids: ids(), change: what });
  pieces.addEventListener("change", () => change({ piece: pieces.value }));
  kinds.addEventListener("change", () => change({ kind: kinds.value }));
  document.getElementById("hit-gone").addEventListener("click", () => change({ gone: true }));
  document.getElementById("hit-back").addEventListener("click", () => {
    keepValues(Object.fromEntries(ids().map((id) => [`timing.to_s.${id}`, null])));
  });
  document.getElementById("lanes").addEventListener("keydown", (event) => {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (event.key === "Delete" || event.key === "Backspace") change({ gone: true });
    else if (by) change({ nudge_s: (by * (event.shiftKey ? FINE_MS : NUDGE_MS)) / 1000 });
    else return;
    event.preventDefault();
  });

  // Rules: one for the song or for the bars of the loop; the server says what a new one holds.
  const fresh = document.getElementById("new-rule");
  fresh.querySelectorAll("button").forEach((button) => button.addEventListener("click", async () => {
    if (!picture) { notify("The hits are still being read; try again in a moment."); return; }
    const span = button.dataset.span === "song" ? [1, bench.bars] : bench.loop;
    const rule = { ...picture.fresh_rule, start_bar: span[0], bars: span[1] - span[0] + 1 };
    await keepRules([...JSON.parse(fresh.dataset.rules), rule]);
  }));
  const drop = document.getElementById("rule-drop");
  drop?.addEventListener("click", () => keepRules(JSON.parse(drop.dataset.rules).filter((_, n) => n !== Number(drop.dataset.rule))));
  async function keepRules(rules) {
    box.textContent = "putting hits in time …";
    await keepValues({ "timing.rules": rules });
    visit(`?mic=${bench.mic}&bars=${bench.loop.join("-")}`);
  }

  function goTo(item) {
    // A hit a little before its bar line belongs to the bar that it begins.
    const bar = Math.max(1, Math.min(bench.bars, Math.floor(barAt(item.t) + 0.02)));
    setLoop(bar, bar);
    lanes.goTo(item.t, item.id);
  }

  function fill(name, items, row) {
    const holder = document.querySelector(`[data-list=${name}]`);
    holder.querySelector("summary span").textContent = items.length;
    const list = holder.querySelector("div");
    list.replaceChildren();
    items.slice(0, 200).forEach((item) => {
      const line = list.appendChild(document.createElement("p"));
      const go = line.appendChild(document.createElement("button"));
      go.className = "act plain";
      go.textContent = item.words;
      go.addEventListener("click", () => goTo(item));
      row?.(line, item);
    });
    if (items.length > 200) list.appendChild(document.createElement("p")).textContent = `and ${items.length - 200} more in the CSV`;
  }

  function button(line, words, run) {
    const made = line.appendChild(document.createElement("button"));
    made.className = "act ml-2";
    made.textContent = words;
    made.addEventListener("click", run);
  }

  function fillLists() {
    fill("unclear", picture.unclear, (line, item) => {
      button(line, "this line", () => keepValues({ [`timing.lines.${item.id}`]: item.line }));
      button(line, "leave it", () => keepValues({ [`timing.to_s.${item.id}`]: item.t }));
    });
    fill("apart", picture.apart, (line, item) => {
      if (item.remedy === "midpoint") button(line, "middle on the line", () => send("move/", { id: item.id, middle: true }));
    });
    fill("edits", picture.edits);
    document.getElementById("kick-words").textContent = picture.kick.words;
    const alone = document.getElementById("kick-alone");
    alone.hidden = !picture.kick.does;
    alone.textContent = picture.kick.does;
    alone.onclick = () => keepValues({ "timing.kick_alone_ms": picture.kick.ms });
    drawFeel();
    const body = document.querySelector("#pieces tbody");
    body.replaceChildren();
    for (const p of picture.placement) {
      const row = body.insertRow();
      [label(p.piece), p.hits, `${minus(p.middle_ms)} ms`, `±${minus(p.spread_ms)} ms`].forEach((text, i) => {
        const cell = row.insertCell();
        cell.textContent = text;
        if (i) cell.className = "fig";
      });
      row.title = p.phases.map((ms, k) => (ms === null ? "" : `${k + 1}: ${minus(ms)} ms`)).filter(Boolean).join(", ");
    }
  }

  // A row a piece, a column a place in the beat: how many hits fall how early or late.
  function drawFeel() {
    const svg = document.getElementById("feel");
    clear(svg);
    const { placement, feel_ms: reach } = picture;
    const columns = placement[0]?.counts.length || 1, left = 44, high = 30, wide = (278 - left) / columns;
    svg.setAttribute("viewBox", `0 0 280 ${placement.length * high + 24}`);
    for (let k = 0; k < columns; k += 1) el(svg, "text", { x: left + (k + 0.5) * wide, y: 9, class: "middle" }, columns === 1 ? "beat" : `${k + 1}`);
    placement.forEach((p, n) => {
      const foot = 12 + (n + 1) * high - 3;
      el(svg, "text", { x: 0, y: foot - 8 }, label(p.piece));
      p.counts.forEach((bins, k) => {
        const x0 = left + k * wide + 3, w = wide - 6, most = Math.max(...bins, 1);
        el(svg, "line", { x1: x0 + w / 2, x2: x0 + w / 2, y1: foot - high + 5, y2: foot, class: "gridline" });
        el(svg, "line", { x1: x0, x2: x0 + w, y1: foot, y2: foot, class: "gridline" });
        const step = w / bins.length;
        bins.forEach((count, i) => count && el(svg, "rect", { x: x0 + i * step, y: foot - (count / most) * (high - 8), width: step, height: (count / most) * (high - 8), class: familyOf(p.piece) }));
      });
    });
    el(svg, "text", { x: left, y: 12 + placement.length * high + 9 }, `−${reach} ms … on the line … +${reach} ms, each`);
  }

  // A copied hit goes in place of another, in all mics at once.
  let copied = null;
  const paste = document.getElementById("hit-paste");
  document.getElementById("hit-copy").addEventListener("click", () => {
    [copied] = ids();
    paste.hidden = true;
    notify("Copied. Choose the hit that it is to replace.");
  });
  paste.addEventListener("click", () => send("copy/", { id: copied, over: ids()[0] }));

  // What no hit accounts for is counted with the findings.
  on("findings", (rows) => {
    const found = rows.find((f) => f.module === "unexplained");
    places = found ? found.measured.places.map(([t, piece, db]) => ({ t, piece, words: `${label(piece)} at ${t.toFixed(3)} s, ${minus(-db)} dB under its typical hit` })) : [];
    const clicks = rows.find((f) => f.module === "seams");
    const seams = clicks ? clicks.measured.places.map(([t, mic, ratio, what]) => ({ t, words: `${label(mic)} at ${t.toFixed(3)} s: ${what}, stands out ${minus(ratio)} times` })) : [];
    fill("seams", seams);
    fill("unexplained", places, (line, item) => button(line, "is a hit", () => send("hits/", { piece: item.piece, at_s: item.t })));
  });

  // By the strip's own button where it has one, so that the strip shows what is heard.
  function hearMic(mic) {
    const shown = document.querySelector(`.strip [data-node="${mic}"]`);
    if (shown) shown.click();
    else player.hear(mic);
  }

  // What an ear says of a moment at which a drum without hits may be hit.
  // Answers are stored one after the other, each on the revision of the one before.
  let answers = Promise.resolve();
  function judge(item, isBleed) {
    answers = answers.then(() => send("hits/", { piece: item.piece, at_s: item.t, is_bleed: isBleed }));
    asked = asked.filter((one) => one.t !== item.t || one.piece !== item.piece);
    at.never -= 1;
    fillQuestions();
  }

  function fillQuestions() {
    document.querySelector("[data-list=never]").hidden = !asked.length;
    fill("never", asked, (line, item) => {
      button(line, "hit", () => judge(item, false));
      button(line, "bleed", () => judge(item, true));
    });
  }

  function answer(isBleed) {
    const item = asked[at.never];
    if (!item) { notify("Q plays the next moment of a drum without hits; then K: hit, L: bleed."); return; }
    judge(item, isBleed);
    walk("never", asked);
  }

  function walk(name, items) {
    if (!items.length) return;
    at[name] = (at[name] + 1) % items.length;
    document.querySelector(`[data-list=${name}]`).open = true;
    goTo(items[at[name]]);
    if (items[at[name]].mic) hearMic(items[at[name]].mic);
    if (!player.playing) player.play().catch((error) => notify(error.message));
  }

  on("picture", (p) => {
    picture = p;
    asked = p.asked;
    fillLists();
    fillQuestions();
    const swing = p.swing > 50 ? `, swing ${p.swing} %` : "";
    document.getElementById("lanes-summary").textContent = `${p.summary} Against ${p.division}${swing}. ${p.saving} Wheel: zoom · drag a hit: move it · Alt: without the grid’s pull · double click: add one.`;
  });
  return {
    nextHit: () => lanes.stepHit(1), previousHit: () => lanes.stepHit(-1),
    nextEdit: () => picture && walk("edits", picture.edits),
    nextUnexplained: () => walk("unexplained", places), nextQuestion: () => walk("never", asked),
    sayHit: () => answer(false), sayBleed: () => answer(true),
  };
}

// A MIDI file's notes, each with the drum that it is taken for, to be chosen otherwise or left out.
function startNotes() {
  const form = document.getElementById("hits-from-file"), rows = document.getElementById("notes-in-file");
  form.elements.hits.addEventListener("change", async () => {
    rows.hidden = true;
    rows.replaceChildren();
    if (!form.elements.hits.files.length) return;
    try {
      const { notes, pieces: kit } = await post(address("edit/notes-in-file/"), new FormData(form));
      rows.replaceChildren(...notes.map((note) => noteRow(note, kit)));
      rows.hidden = !notes.length;
    } catch (error) {
      notify(error.message);
    }
  });
}

function noteRow({ number, times: count, piece }, kit) {
  const row = document.createElement("label"), choice = document.createElement("select");
  choice.className = "field";
  choice.dataset.note = number;
  for (const [value, words] of [["", "leave out"], ...kit]) choice.add(new Option(words, value, false, value === (piece || "")));
  const times = document.createElement("span");
  times.className = "mono";
  times.textContent = `${number} · ${count} ×`;
  row.append(times, choice);
  return row;
}
