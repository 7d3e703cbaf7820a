// A ruler's scale: where a value stands, which value stands at a place, how it is rounded and written.
import { minus } from "./draw.js";

const EDGE_PX = 6;
const OFF_DB = -90;

// `step` is what an arrow key moves: a factor where the scale is `log`.
export function scaleOf({ low, high, step, log, unit, width }) {
  const held = (v) => Math.min(Math.max(v, low), high);
  const digitsOf = (v) => (Math.abs(v) >= 100 ? 0 : Math.abs(v) >= 10 ? 1 : 2);
  const share = (v) => (log ? Math.log(held(v) / low) / Math.log(high / low) : (held(v) - low) / (high - low));
  return {
    low,
    high,
    held,
    x: (v) => EDGE_PX + share(v) * (width - 2 * EDGE_PX),
    valueAt(px) {
      const s = Math.min(Math.max((px - EDGE_PX) / (width - 2 * EDGE_PX), 0), 1);
      return log ? low * (high / low) ** s : low + s * (high - low);
    },
    rounded: (v) => (!log && step >= 0.25 ? Math.round(v / step) * step : Number(v.toFixed(digitsOf(v)))),
    // A quarter of a step where it is to be fine.
    moved(v, direction, fine) {
      const size = log ? step ** (fine ? 0.25 : 1) : step * (fine ? 0.25 : 1);
      return held(Number((log ? v * size ** direction : v + size * direction).toFixed(3)));
    },
    written(v) {
      if (unit === "dB" && v <= OFF_DB) return "off";
      return minus(v, unit === "dB" ? 1 : digitsOf(v));
    },
  };
}

// A tick's figure: thousands as k, no zeros behind the point.
export function tickText(v) {
  if (v >= 1000) return `${v / 1000}k`;
  if (Number.isInteger(v)) return minus(v, 0);
  return minus(v, Math.abs(v) < 1 ? 2 : 1).replace(/0$/, "");
}
