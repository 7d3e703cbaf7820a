// The findings column: what the tool says it heard and would do, one at a time.
import { Refusal, getJson, notify, post } from "./api.js";
import { address, bench, dropTry, here, moveTo, on, setLoop, tell, tryValues } from "./bench.js";
import { label, minus, speak } from "./draw.js";
import { player } from "./player.js";
import { chooseVariant, offerOther } from "./strip.js";
import { noteToDo } from "./notes.js";
import { again, visit } from "./visit.js";

const WORDS = {
  sum_db: "pair's sum, dB", bleed_reduction_db: "bleed taken off, dB", below_dbfs: "below the drum, dBFS",
  ring_dbfs: "ring, dBFS", band_db: "band, dB", typical_dbfs: "typical hit, dBFS", peak_dbfs: "peak, dBFS",
  over_db: "over the typical hit, dB", reduction_db: "reduction, dB", pairs_in_step: "pairs in step", apart_samples: "apart, samples", attack_to_body_db: "attack over body, dB",
  hum_dbfs: "hum, dBFS", clipped_runs: "clipped runs", return_under_mix_lu: "return under the mix, LU", behind_ms: "behind, ms", chorus_over_verse_lu: "chorus over verse, LU",
};

// Small values keep the digits that tell them from nothing.
const figure = (v) => minus(v, v !== 0 && Math.abs(v) < 0.1 ? 3 : 1);

// Open findings per station on the rail, per piece on the plan.
function showCounts(found) {
  document.querySelectorAll("[data-open]").forEach((span) => {
    const n = found.counts[span.dataset.open];
    span.textContent = n ? ` · ${n}` : "";
  });
  document.querySelectorAll(".plan .piece[data-piece]").forEach((piece) => {
    const n = found.pieces[piece.dataset.piece];
    piece.querySelector(".open").textContent = n || "";
    piece.setAttribute("aria-label", label(piece.dataset.piece) + (n ? `, ${n} open findings` : ""));
  });
}

export function startFindings() {
  const box = document.getElementById("findings");
  if (!box) {
    getJson(`${address("findings/")}?station=`).then(showCounts).catch((error) => notify(error.message));
    return null;
  }
  const part = (name) => box.querySelector(`[data-part=${name}]`);
  const asked = new URLSearchParams(location.search);
  const state = { rows: [], open: [], at: 0, way: Number(asked.get("way")) || 0, hearing: null, answering: null, taken: false };
  // The finding in hand, with the way that was chosen as its proposal.
  const current = () => {
    const f = state.open[state.at];
    return f && state.way ? { ...f, ...f.others[state.way - 1] } : f;
  };
  const wished = asked.get("finding");

  // Those of the mic in hand come first; then the order in which they rest on each other.
  function take(found) {
    // While findings still come in, the first of the mic in hand leads until one was taken up.
    const kept = state.taken && current() && current().id;
    state.rows = found.findings;
    tell("findings", found.findings);
    const open = found.findings.filter((f) => f.state === "open");
    state.open = [...open.filter((f) => f.mic === bench.mic), ...open.filter((f) => f.mic !== bench.mic)];
    const wanted = kept || wished;
    state.at = Math.max(0, state.open.findIndex((f) => f.id === wanted));
    const shown = state.open[state.at];
    if (shown && (state.way > (shown.others || []).length || shown.id !== wanted)) state.way = 0;
    showCounts(found);
    // Every ruler on the page shows what is proposed for it.
    tell("marks", Object.assign({}, ...[...state.open].reverse().map((f) => f.proposal)));
    document.getElementById("findings-counting").textContent = found.counting ? "counting …" : "";
    draw(found);
  }

  function draw(found) {
    const f = current();
    document.getElementById("findings-count").textContent = state.open.length === 1 ? "1 finding" : `${state.open.length} findings`;
    part("place").textContent = f ? `${state.at + 1}/${state.open.length}` : "";
    part("one").hidden = !f;
    part("before").disabled = part("after").disabled = state.open.length < 2;
    const none = part("none");
    if (found) state.quiet = found.counting ? [] : found.quiet;
    const quietMic = f && f.mic && f.mic !== bench.mic && (state.quiet || []).includes(bench.mic);
    none.hidden = Boolean(f) && !quietMic;
    if (quietMic) none.textContent = `Nothing needed on ${label(bench.mic)}. What stands above is on ${label(f.mic)}.`;
    else if (!f && found) none.textContent = found.counting ? "Listening through the mics …" : "Nothing needed here.";
    drawAnswered();
    if (!f) return;
    speak(part("text"), f.reason);
    part("way").hidden = !state.way;
    speak(part("way"), f.said || "");
    const gains = Object.entries(f.gain).slice(0, 3).map(([name, c]) => `${WORDS[name] || label(name)} ${figure(c.now)} → ${figure(c.then)}`);
    part("gain").textContent = gains.join(" · ");
    const source = [];
    if (f.doubtful) source.push("doubtful: listen first");
    if (f.row) source.push(`${f.school}: ${f.row.replace("_", " ")}`);
    if (!Object.keys(f.proposal).length) source.push("nothing in the sheet mends this yet");
    if (f.mic && f.mic !== bench.mic) source.push(`on ${label(f.mic)}`);
    part("source").textContent = source.join(" · ");
    const can = Object.keys(f.proposal).length > 0;
    part("apply").disabled = part("change").disabled = !can;
    part("hear").textContent = state.hearing === f.id ? "Stop hearing" : can ? "Hear" : "Play the place";
    part("why").hidden = state.answering !== f.id;
    drawWays(state.open[state.at]);
  }

  // Where there are several ways, each is heard and applied like the first.
  function drawWays(f) {
    const list = part("ways");
    const ways = f.others && f.others.length ? ["as proposed", ...f.others.map((w) => w.name)] : [];
    list.hidden = !ways.length;
    const focused = list.contains(document.activeElement);
    list.replaceChildren();
    ways.forEach((name, n) => {
      const button = list.appendChild(document.createElement("button"));
      button.className = "act";
      button.dataset.way = n;
      button.setAttribute("aria-pressed", n === state.way);
      button.textContent = name;
      button.addEventListener("click", () => chooseWay(n));
      if (focused && n === state.way) button.focus();
    });
  }

  function chooseWay(n) {
    const sounding = state.hearing;
    if (sounding) stopHearing();
    state.taken = true;
    state.way = n;
    draw();
    if (sounding) hear();
  }

  function drawAnswered() {
    const answered = state.rows.filter((f) => f.state !== "open");
    const holder = part("answered");
    holder.hidden = !answered.length;
    const words = { applied: "applied", changed: "changed", declined: "declined" };
    const counts = Object.keys(words).map((s) => [answered.filter((f) => f.state === s).length, s]).filter(([n]) => n);
    holder.querySelector("summary").textContent = counts.map(([n, s]) => `${n} ${words[s]}`).join(", ");
    const list = holder.querySelector("ul");
    list.replaceChildren();
    for (const f of answered) {
      const item = list.appendChild(document.createElement("li"));
      item.className = f.state === "declined" ? "quiet mt-1" : "mt-1 text-applied";
      item.append(`${f.state}: ${f.reason}${f.declined_because ? ` – ${f.declined_because}` : ""} `);
      if (f.state !== "declined") continue;
      const reopen = item.appendChild(document.createElement("button"));
      reopen.className = "act";
      reopen.textContent = "Open again";
      reopen.addEventListener("click", () => send("reopen", f, {}));
    }
  }

  const mine = here();
  let asking = 0;
  async function load() {
    clearTimeout(asking);
    if (mine.aborted) return;
    try {
      const found = await getJson(`${address("findings/")}?station=${box.dataset.station}`);
      if (mine.aborted) return;
      take(found);
      if (found.counting) asking = setTimeout(load, 800);
    } catch (error) {
      notify(error.message);
    }
  }

  async function send(what, finding, more) {
    try {
      const made = await post(address(`findings/${what}/`), { finding: finding.id, base: bench.revision, ...more });
      if (made.sheet) {
        moveTo(made);
        tell("sound");
        tell("try");
      }
    } catch (error) {
      notify(error.message);
      if (error instanceof Refusal && error.status === 409) setTimeout(again, 2500);
    }
    load();
  }

  // Hear: the loop with what is proposed and without, at equal loudness; nothing is kept.
  function hear() {
    const f = current();
    if (!f) return;
    state.taken = true;
    if (state.hearing) { stopHearing(); return; }
    if (f.bars) setLoop(f.bars[0], f.bars[1]);
    if (Object.keys(f.proposal).length) {
      state.hearing = f.id;
      offerOther({ rev: bench.revision, words: "without it" });
      tryValues(f.proposal);
      tell("sound");
      chooseVariant("now");
    }
    if (!player.playing) player.play().catch((error) => notify(`Sound could not be started: ${error.message}`));
    draw();
  }

  function stopHearing() {
    if (!state.hearing) return;
    state.hearing = null;
    offerOther(null);
    dropTry();
    tell("sound");
    draw();
  }

  function apply() {
    const f = current();
    if (!f || !Object.keys(f.proposal).length) return;
    if (state.hearing) { state.hearing = null; offerOther(null); bench.patch = {}; }
    send("apply", f, { way: state.way });
    state.way = 0;
  }

  // Change: the value stands in the hand as proposed; what is kept from there answers the finding.
  function change() {
    const f = current();
    if (!f || !Object.keys(f.proposal).length) return;
    stopHearing();
    if (f.mic && f.mic !== bench.mic) {
      visit(`?mic=${f.mic}&bars=${bench.loop.join("-")}&finding=${encodeURIComponent(f.id)}&way=${state.way}&change=1`);
      return;
    }
    openChange(f);
  }

  function openChange(f) {
    const paths = Object.keys(f.proposal);
    const found = paths.map((p) => document.getElementById(`ruler-${p.replaceAll(".", "-")}`)).find(Boolean);
    bench.answering = f.id;
    tryValues(f.proposal);
    tell("proposed", f.proposal);
    if (found) {
      found.scrollIntoView({ block: "center" });
      found.querySelector("svg").focus();
    } else {
      notify("This finding has no ruler on this page; apply it and change it afterwards, or decline it.");
      bench.answering = "";
      dropTry();
    }
  }

  function decline() {
    const f = current();
    if (!f) return;
    state.taken = true;
    state.answering = f.id;
    draw();
    part("reason").value = "";
    part("reason").focus();
  }

  function stepBy(by) {
    tell("looked");
    if (!state.open.length) return;
    stopHearing();
    state.taken = true;
    state.at = (state.at + by + state.open.length) % state.open.length;
    state.way = 0;
    state.answering = null;
    draw();
  }

  part("hear").addEventListener("click", hear);
  part("apply").addEventListener("click", apply);
  part("change").addEventListener("click", change);
  part("decline").addEventListener("click", decline);
  part("later").addEventListener("click", () => noteToDo(part("text").textContent));
  part("before").addEventListener("click", () => stepBy(-1));
  part("after").addEventListener("click", () => stepBy(1));
  part("keep-open").addEventListener("click", () => { state.answering = null; draw(); });
  part("why").addEventListener("submit", (event) => {
    event.preventDefault();
    const reason = part("reason").value;
    const f = current();
    state.answering = null;
    send("decline", f, { reason });
  });
  on("kept", () => { bench.answering = ""; load(); });
  load().then(() => {
    if (asked.get("change") && current() && current().id === wished) openChange(current());
  });
  return { hear, apply, change, decline, step: stepBy };
}
