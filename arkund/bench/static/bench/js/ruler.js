// The measured ruler: the measurement drawn in the scale of the value that acts on it.
import { getJson, notify } from "./api.js";
import { address, bench, dropTry, keepTry, on, query, tryValues, valueAt } from "./bench.js";
import { clear, el, minus } from "./draw.js";

const WIDTH = 280;

export function ruler() {
  return {
    init() {
      const root = this.$el;
      const data = root.dataset;
      const part = (name) => root.querySelector(`[data-part=${name}]`);
      const svg = part("scale");
      const input = part("value");
      const hint = part("hint");
      const low = Number(data.low), high = Number(data.high), stepSize = Number(data.step);
      const log = data.scale === "log";
      const short = root.classList.contains("short");
      const height = short ? 30 : 52;
      const base = short ? 18 : 38;
      const state = { value: Number(data.value), on: data.on === "1", drawing: {}, drag: false };
      svg.setAttribute("viewBox", `0 0 ${WIDTH} ${height}`);

      const share = (v) => {
        const held = Math.min(Math.max(v, low), high);
        return log ? Math.log(held / low) / Math.log(high / low) : (held - low) / (high - low);
      };
      const x = (v) => 6 + share(v) * (WIDTH - 12);
      const valueOf = (px) => {
        const s = Math.min(Math.max((px - 6) / (WIDTH - 12), 0), 1);
        return log ? low * (high / low) ** s : low + s * (high - low);
      };
      const rounded = (v) => {
        if (!log && stepSize >= 0.25) return Math.round(v / stepSize) * stepSize;
        const digits = Math.abs(v) >= 100 ? 0 : Math.abs(v) >= 10 ? 1 : 2;
        return Number(v.toFixed(digits));
      };
      const shown = (v) => {
        if (data.unit === "dB" && v <= -90) return "off";
        const digits = data.unit === "dB" ? 1 : Math.abs(v) >= 100 ? 0 : Math.abs(v) >= 10 ? 1 : 2;
        return minus(v, digits);
      };

      const draw = () => {
        clear(svg);
        const d = state.drawing;
        for (const [from, to] of d.zones || []) {
          el(svg, "rect", { class: "zone", x: x(from), y: 4, width: Math.max(x(to) - x(from), 0), height: base - 4 });
        }
        for (const area of d.areas || []) {
          const points = area.points.filter(([v]) => v >= low && v <= high);
          if (!points.length) continue;
          const line = points.map(([v, h]) => `L${x(v).toFixed(1)} ${(base - h * (base - 6)).toFixed(1)}`).join("");
          el(svg, "path", { class: area.tone, d: `M${x(points[0][0])} ${base}${line}L${x(points.at(-1)[0])} ${base}z` });
        }
        for (const [from, to, h, tone] of d.bars || []) {
          const left = x(from), width = Math.max(x(to) - left - 0.6, 1.4);
          el(svg, "rect", { class: tone, x: left, width, y: base - h * (base - 8), height: h * (base - 8) });
        }
        el(svg, "line", { class: "axis", x1: 6, x2: WIDTH - 6, y1: base, y2: base });
        for (const text of data.ticks.split(" ")) {
          const v = Number(text);
          el(svg, "line", { class: "axis", x1: x(v), x2: x(v), y1: base, y2: base + 3 });
          const written = v >= 1000 ? `${v / 1000}k` : minus(v, Number.isInteger(v) ? 0 : Math.abs(v) < 1 ? 2 : 1).replace(/0$/, (z) => (Number.isInteger(v) ? z : ""));
          el(svg, "text", { class: "tick", x: Math.min(Math.max(x(v), 10), WIDTH - 10), y: base + 12 }, written);
        }
        for (const [v, name] of d.marks || []) {
          if (v < low || v > high) continue;
          el(svg, "line", { class: "gridline", x1: x(v), x2: x(v), y1: 8, y2: base });
          el(svg, "text", { class: "note", x: x(v), y: 8 }, name);
        }
        const proposed = state.mark ?? d.proposed;
        if (proposed !== undefined && proposed >= low && proposed <= high) {
          const p = x(proposed);
          const tip = el(svg, "path", { class: "proposed", d: `M${p - 5} ${base + 1}L${p} ${base - 8}L${p + 5} ${base + 1}z` });
          el(tip, "title", {}, `proposed: ${shown(proposed)} ${data.unit}`);
        }
        const at = x(state.value);
        el(svg, "line", { class: "needle", x1: at, x2: at, y1: short ? 6 : 0, y2: base });
        el(svg, "rect", { class: "thumb", x: at - 4, y: base - 6, width: 8, height: 12, rx: 1.5 });
        svg.setAttribute("aria-valuenow", state.value);
        svg.setAttribute("aria-valuetext", `${shown(state.value)} ${data.unit}`);
        if (document.activeElement !== input) input.value = shown(state.value);
        if (hint && d.note) hint.textContent = `${data.hint} · ${d.note}`;
        root.classList.toggle("off", !state.on);
        const toggle = part("switch");
        if (toggle) toggle.textContent = state.on ? "in" : "out";
      };

      // Touching a ruler whose stage is out puts it in: what is set is meant to be heard.
      const change = (value) => {
        state.value = Math.min(Math.max(rounded(value), low), high);
        const patch = { [data.path]: data.shut !== "" && state.value <= low ? Number(data.shut) : state.value };
        if (data.switch && !state.on) { state.on = true; patch[data.switch] = true; }
        draw();
        tryValues(patch);
      };

      const pointer = (event) => {
        const box = svg.getBoundingClientRect();
        return ((event.clientX - box.left) / box.width) * WIDTH;
      };
      svg.addEventListener("pointerdown", (event) => {
        if (event.target.classList.contains("proposed")) {
          change(state.mark ?? state.drawing.proposed);
          keepTry();
          return;
        }
        svg.setPointerCapture(event.pointerId);
        state.drag = true;
        state.before = { value: state.value, on: state.on };
        change(valueOf(pointer(event)));
      });
      svg.addEventListener("pointermove", (event) => { if (state.drag) change(valueOf(pointer(event))); });
      const release = () => {
        if (!state.drag) return;
        state.drag = false;
        window.arkundPointerUp = performance.now();
        keepTry();
      };
      svg.addEventListener("pointerup", release);
      svg.addEventListener("pointercancel", () => leave());
      const leave = () => {
        if (!state.drag) return;
        state.drag = false;
        Object.assign(state, state.before);
        draw();
        dropTry();
      };
      svg.addEventListener("dblclick", () => { change(Number(data.fallback)); keepTry(); });

      let later = 0;
      const keepSoon = () => { clearTimeout(later); later = setTimeout(keepTry, 900); };
      const nudge = (direction, fine) => {
        const size = fine ? (log ? stepSize ** 0.25 : stepSize / 4) : stepSize;
        const next = log ? state.value * size ** direction : state.value + size * direction;
        state.value = Math.min(Math.max(Number(next.toFixed(3)), low), high);
        const patch = { [data.path]: state.value };
        if (data.switch && !state.on) { state.on = true; patch[data.switch] = true; }
        draw();
        tryValues(patch);
        keepSoon();
      };
      svg.addEventListener("wheel", (event) => {
        if (document.activeElement !== svg) return;
        event.preventDefault();
        nudge(event.deltaY < 0 ? 1 : -1, event.shiftKey);
      }, { passive: false });
      svg.addEventListener("keydown", (event) => {
        const moves = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1 };
        if (event.key in moves) nudge(moves[event.key], event.shiftKey);
        else if (event.key === "Home") { change(low); keepSoon(); }
        else if (event.key === "End") { change(high); keepSoon(); }
        else if (event.key === "Enter") input.focus();
        else return;
        event.preventDefault();
        event.stopPropagation();
      });
      document.addEventListener("keydown", (event) => { if (event.key === "Escape") leave(); });

      input.addEventListener("focus", () => input.select());
      input.addEventListener("change", async () => {
        let value;
        try {
          ({ value } = await getJson(`${address("value/")}?${query({ text: input.value, unit: data.unit })}`));
        } catch (error) {
          notify(error.message);
          input.value = shown(state.value);
          return;
        }
        change(value);
        state.value = Math.min(Math.max(value, low), high);
        tryValues({ [data.path]: state.value });
        draw();
        keepTry();
      });
      input.addEventListener("keydown", (event) => {
        if (event.key === "Enter") input.blur();
        event.stopPropagation();
      });
      part("switch")?.addEventListener("click", () => {
        state.on = !state.on;
        draw();
        tryValues({ [data.switch]: state.on });
        keepTry();
      });

      on("picture", (picture) => {
        state.drawing = (picture.rulers || {})[data.path] || {};
        draw();
      });
      const follow = (sheet) => {
        if (state.drag) return;
        const value = valueAt(sheet, data.path);
        if (typeof value === "number") state.value = value;
        if (data.switch) state.on = Boolean(valueAt(sheet, data.switch));
        draw();
      };
      on("kept", follow);
      on("marks", (marks) => {
        state.mark = typeof marks[data.path] === "number" ? marks[data.path] : undefined;
        draw();
      });
      on("proposed", (patch) => {
        if (!(data.path in patch) && !(data.switch in patch)) return;
        if (data.path in patch) state.value = Number(patch[data.path]);
        if (data.switch in patch) state.on = Boolean(patch[data.switch]);
        draw();
      });
      on("refused", (patch) => { if (data.path in patch) { state.value = Number(data.value); draw(); } });
      draw();
    },
  };
}
