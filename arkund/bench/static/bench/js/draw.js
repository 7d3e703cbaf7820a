// Small means of drawing: SVG elements, colours of the tokens, axes.
const NS = "http://www.w3.org/2000/svg";

export function el(parent, name, attributes = {}, text) {
  const node = document.createElementNS(NS, name);
  for (const [key, value] of Object.entries(attributes)) node.setAttribute(key, value);
  if (text !== undefined) node.textContent = text;
  parent.append(node);
  return node;
}

export const clear = (svg) => { while (svg.firstChild) svg.firstChild.remove(); return svg; };

export const colour = (name) =>
  getComputedStyle(document.documentElement).getPropertyValue(`--color-${name}`).trim();

const FAMILY = { kick: "kick", snare: "snare", tom: "tom", hat: "metal", ride: "metal", crash: "metal", cymbal: "metal" };
export const familyOf = (piece) => FAMILY[String(piece || "").replace(/_\d+$/, "")] || "ambience";
export const label = (name) => name.replaceAll("_", " ").replace(/ ([lr])$/, (m, s) => ` ${s.toUpperCase()}`);

// One shape a family, the same everywhere: as a path for SVG and canvas.
export function outline(family, x, y, r) {
  return {
    kick: `M${x - r} ${y}a${r} ${r} 0 1 0 ${2 * r} 0a${r} ${r} 0 1 0 ${-2 * r} 0z`,
    snare: `M${x - r} ${y - r}h${2 * r}v${2 * r}h${-2 * r}z`,
    tom: `M${x} ${y - r * 1.15}L${x + r * 1.1} ${y + r}H${x - r * 1.1}z`,
    metal: `M${x} ${y - r * 1.25}L${x + r * 1.25} ${y}L${x} ${y + r * 1.25}L${x - r * 1.25} ${y}z`,
    ambience: `M${x - r} ${y - r / 2}h${2 * r}v${r}h${-2 * r}z`,
  }[family];
}

export function mark(parent, family, x, y, r, attributes = {}) {
  return el(parent, "path", { d: outline(family, x, y, r), ...attributes });
}

export const path = (points) =>
  points.map(([x, y], i) => `${i ? "L" : "M"}${x.toFixed(1)} ${y.toFixed(1)}`).join("");

export const minus = (value, digits = 1) => Number(value).toFixed(digits).replace("-", "−");

// Levels are drawn on horizontal lines at the given decibels.
export function levels(svg, ys, values, left, right) {
  for (const v of values) {
    el(svg, "line", { class: v === 0 ? "zero" : "gridline", x1: left, x2: right, y1: ys(v), y2: ys(v) });
    el(svg, "text", { x: left - 4, y: ys(v) + 3, "text-anchor": "end" }, minus(v, 0));
  }
}

// A finding with its number first and set apart.
export function speak(box, text) {
  const [, number, rest] = text.match(/^([+−]?[\d.]+ \S+)?(.*)$/s);
  const strong = document.createElement("b");
  strong.textContent = number || "";
  box.replaceChildren(strong, rest);
}
