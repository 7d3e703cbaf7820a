import assert from "node:assert/strict";
import { test } from "node:test";
import { scaleOf, tickText } from "../../arkund/bench/static/bench/js/scale.js";

const DB = { low: -60, high: 0, step: 0.5, log: false, unit: "dB", width: 280 };
const HZ = { low: 20, high: 20000, step: 1.03, log: true, unit: "Hz", width: 280 };

test("a place and its value are each other's inverse on both scales", () => {
  for (const [made, values] of [[DB, [-60, -33.5, 0]], [HZ, [20, 440, 20000]]]) {
    const scale = scaleOf(made);
    for (const v of values) assert.ok(Math.abs(scale.valueAt(scale.x(v)) - v) < 1e-9 * Math.max(1, Math.abs(v)));
  }
});

test("equal ratios are equally wide on a logarithmic scale", () => {
  const { x } = scaleOf(HZ);
  assert.ok(Math.abs(x(200) - x(20) - (x(2000) - x(200))) < 1e-9);
});

test("nothing leaves the scale", () => {
  const scale = scaleOf(DB);
  assert.equal(scale.valueAt(-500), -60);
  assert.equal(scale.valueAt(5000), 0);
  assert.equal(scale.moved(-0.2, 1, false), 0);
  assert.equal(scale.x(12), scale.x(0));
});

test("an arrow moves by a step or a factor, and finely by a quarter of it", () => {
  assert.equal(scaleOf(DB).moved(-10, -1, false), -10.5);
  assert.equal(scaleOf(DB).moved(-10, 1, true), -9.875);
  assert.equal(scaleOf(HZ).moved(1000, 1, false), 1030);
  assert.equal(scaleOf(HZ).moved(1000, -1, false), 970.874);
  const fine = scaleOf(HZ);
  let hz = 1000;
  for (let n = 0; n < 4; n += 1) hz = fine.moved(hz, 1, true);
  assert.ok(Math.abs(hz - 1030) < 0.01);
});

test("dragging rounds to steps, or to the digits that are shown", () => {
  assert.equal(scaleOf(DB).rounded(-9.81), -10);
  assert.equal(scaleOf(HZ).rounded(123.4), 123);
  assert.equal(scaleOf(HZ).rounded(43.21), 43.2);
});

test("figures are written as the unit wants them", () => {
  assert.equal(scaleOf(DB).written(-6), "−6.0");
  assert.equal(scaleOf({ ...DB, low: -96 }).written(-96), "off");
  assert.equal(scaleOf(HZ).written(8.5), "8.50");
  assert.deepEqual([10000, 1500, 100, 0.5, 0.25, -12].map(tickText), ["10k", "1.5k", "100", "0.5", "0.25", "−12"]);
});
