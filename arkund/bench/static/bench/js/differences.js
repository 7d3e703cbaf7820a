// Values that differ over some bars: typed, or painted on a strip of the song's bars. A block is moved by a drag
// or the arrows, resized by its ends or with Shift, and removed by Delete.
import { getJson, notify } from "./api.js";
import { address, bench, here, on, query } from "./bench.js";
import { clear, el } from "./draw.js";
import { barsOf, joined, moved, resized, spansOf } from "./spans.js";

const HIGH = 18, GRIP_PX = 5, LEAST_PX = 3;

// Which block the keys have in hand: the page comes anew with each change, and they go on.
let held = null;
document.addEventListener("pointerdown", () => { held = null; }, true);
document.addEventListener("keydown", (event) => { if (event.key === "Tab") held = null; }, true);

export function startDifferences(change) {
  document.querySelectorAll("[data-drop]").forEach((button) => button.addEventListener("click", () => change({ [button.dataset.drop]: null })));
  document.querySelectorAll("[data-follow]").forEach((button) => button.addEventListener("click", () => {
    change({ [`${button.dataset.follow}.follows`]: button.dataset.value === "true" });
  }));
  document.querySelectorAll("[data-differ]").forEach((form) => startForm(form, change));
  document.querySelectorAll("[data-scene]").forEach((form) => startScene(form, change));
  document.querySelectorAll("svg[data-spans]").forEach((svg) => new Strip(svg, {
    path: svg.dataset.spans,
    spans: spansOf(svg.dataset.bars),
    called: svg.dataset.called,
    ramp: Number(svg.dataset.ramp || 0),
    changed: (spans) => change(spans.length ? { [`${svg.dataset.spans}.bars`]: barsOf(spans) } : { [svg.dataset.spans]: null }),
  }));
}

function startForm(form, change) {
  const { bars, value } = form.elements, svg = form.querySelector("svg[data-paints]");
  const strip = new Strip(svg, {
    spans: spansOf(bars.value),
    called: "new",
    changed: (spans) => { bars.value = barsOf(spans); bars.dataset.own = "1"; },
    painted: () => value.focus(),
  });
  bars.addEventListener("input", () => { bars.dataset.own = "1"; strip.set(spansOf(bars.value)); });
  // Until bars are said here, they are those of the loop.
  on("loop", () => {
    if (bars.dataset.own) return;
    bars.value = barsOf([bench.loop]);
    strip.set([[...bench.loop]]);
  });
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const asked = Object.fromEntries(new FormData(form));
    const { unit } = form.elements.path.selectedOptions[0].dataset;
    try {
      const wanted = await typed(asked.value, unit), ramp = await typed(asked.ramp_ms, "ms");
      const said = { path: asked.path, bars: plainBars(asked.bars), value: wanted, by: asked.by === "1", ramp_ms: ramp, scene: asked.scene.trim() };
      change({ [form.dataset.differ]: said });
    } catch (error) {
      notify(error.message);
    }
  });
}

function startScene(form, change) {
  const each = (of, value) => change(Object.fromEntries(form.dataset.scene.split(" ").map((id) => [of(id), value])));
  form.addEventListener("submit", (event) => {
    event.preventDefault();
    each((id) => `over.${id}.bars`, plainBars(form.elements.bars.value));
  });
  form.querySelector("[data-drop-scene]").addEventListener("click", () => each((id) => `over.${id}`, null));
}

// A value as the server reads what was typed; of what has no unit also words, such as on and off.
async function typed(text, unit) {
  const plain = text.trim().toLowerCase();
  if (!unit && plain in SWITCHED) return SWITCHED[plain];
  if (!unit && Number.isNaN(Number(plain.replace("−", "-")))) return text.trim();
  return (await getJson(`${address("value/")}?${query({ text, unit })}`)).value;
}
const SWITCHED = { on: true, off: false, yes: true, no: false };
const plainBars = (text) => text.trim().replaceAll("–", "-");

class Strip {
  // `changed` is told the spans once the hand lets go; `painted` follows when new ones were drawn. Within `ramp` bars
  // from its beginning a value is reached, and within as many from its end left.
  constructor(svg, { spans, called, changed, path = "", ramp = 0, painted = () => {} }) {
    Object.assign(this, { svg, spans, called, changed, path, ramp, painted });
    svg.addEventListener("pointerdown", (event) => this.take(event));
    addEventListener("resize", () => this.draw(), { signal: here() });
    this.draw();
    if (held && path && held.path === path) this.focus(held.n);
  }

  set(spans) { this.spans = spans; this.draw(); }

  get width() { return this.svg.clientWidth || 200; }

  x(bar) { return ((bar - 1) / bench.bars) * this.width; }

  barAt(event) {
    const share = (event.clientX - this.svg.getBoundingClientRect().left) / this.width;
    return Math.max(1, Math.min(bench.bars, Math.floor(share * bench.bars) + 1));
  }

  draw() {
    const svg = clear(this.svg);
    svg.setAttribute("viewBox", `0 0 ${this.width} ${HIGH}`);
    bench.sections.forEach((section, n) => {
      const from = this.x(section.start_bar), to = this.x(section.start_bar + section.bars);
      el(svg, "rect", { class: n % 2 ? "part odd" : "part", x: from, y: 0, width: Math.max(to - from - 1, 0), height: HIGH });
    });
    this.spans.forEach(([first, last], n) => {
      const words = first === last ? `bar ${first}` : `bars ${first} to ${last}`;
      const block = el(svg, "path", {
        class: "block", d: this.shape(first, last),
        tabindex: 0, role: "slider", "aria-label": `${this.called}, ${words}`, "aria-valuetext": words,
        "aria-valuenow": first, "aria-valuemin": 1, "aria-valuemax": bench.bars,
      });
      block.addEventListener("keydown", (event) => this.press(event, n));
    });
  }

  // A slope up from where it begins, and one down from where it ends.
  shape(first, last) {
    const from = this.x(first), to = Math.max(this.x(last + 1), from + LEAST_PX), slope = this.x(1 + this.ramp);
    return `M${from} ${HIGH - 2}L${Math.min(from + slope, to)} 2H${to}L${to + slope} ${HIGH - 2}z`;
  }

  // A block's middle moves it, its ends resize it, and where none is a new one is drawn.
  take(event) {
    event.preventDefault();
    const { svg } = this, from = this.barAt(event), before = this.spans.map((one) => [...one]);
    const px = event.clientX - svg.getBoundingClientRect().left;
    const n = before.findIndex(([a, b]) => px >= this.x(a) - GRIP_PX && px <= this.x(b + 1) + GRIP_PX);
    const end = n < 0 ? "" : px >= this.x(before[n][1] + 1) - GRIP_PX ? "last" : px <= this.x(before[n][0]) + GRIP_PX ? "first" : "";
    svg.setPointerCapture(event.pointerId);
    const isNew = n < 0, kept = isNew && !event.shiftKey && this.called === "new" ? [] : before;
    const follow = (e) => {
      const to = this.barAt(e), by = to - from;
      if (isNew) this.spans = [...kept, [Math.min(from, to), Math.max(from, to)]];
      else this.spans = before.map((one, m) => (m !== n ? one : end ? resized(one, end, by, bench.bars) : moved(one, by, bench.bars)));
      this.draw();
    };
    follow(event);
    svg.onpointermove = follow;
    svg.onpointerup = () => {
      svg.onpointermove = svg.onpointerup = null;
      this.settle(before, isNew);
    };
  }

  press(event, n) {
    const before = this.spans.map((one) => [...one]);
    const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (by) this.spans[n] = event.shiftKey ? resized(before[n], "last", by, bench.bars) : moved(before[n], by, bench.bars);
    else if (event.key === "Delete") this.spans.splice(n, 1);
    else return;
    event.preventDefault();
    event.stopPropagation();
    this.settle(before, false);
    this.focus(n);
    held = { path: this.path, n };
  }

  focus(n) { this.svg.querySelectorAll(".block")[Math.min(n, this.spans.length - 1)]?.focus(); }

  settle(before, isNew) {
    this.spans = joined(this.spans);
    this.draw();
    if (barsOf(this.spans) !== barsOf(before)) this.changed(this.spans);
    if (isNew) this.painted();
  }
}
