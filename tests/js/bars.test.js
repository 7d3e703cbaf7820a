import assert from "node:assert/strict";
import { test } from "node:test";
import { barAt, barStart } from "../../arkund/bench/static/bench/js/bars.js";
import { withBorder } from "../../arkund/bench/static/bench/js/sections.js";

const STARTS = [0.6, 2.6, 4.1, 5.6]; // three bars, the first one longer

test("a bar begins where it is said to, and between two in proportion", () => {
  assert.equal(barStart(STARTS, 2), 2.6);
  assert.ok(Math.abs(barStart(STARTS, 1.5) - 1.6) < 1e-12);
});

test("beyond the last bar its length goes on, before the first one that one's", () => {
  assert.ok(Math.abs(barStart(STARTS, 5) - 7.1) < 1e-12);
  assert.ok(Math.abs(barStart(STARTS, 0) + 1.4) < 1e-12);
});

test("seconds lead back to the bar", () => {
  for (const bar of [0.5, 1, 1.25, 2, 2.999, 3, 4.5]) {
    assert.ok(Math.abs(barAt(STARTS, barStart(STARTS, bar)) - bar) < 1e-6, `bar ${bar}`);
  }
});

const SECTIONS = [
  { name: "intro", start_bar: 1, bars: 4 },
  { name: "verse", start_bar: 5, bars: 8 },
  { name: "out", start_bar: 17, bars: 4 },
];

test("a border moves the end of one section and the beginning of the next", () => {
  const moved = withBorder(SECTIONS, 0, 7, 20);
  assert.deepEqual(moved.map((s) => [s.start_bar, s.bars]), [[1, 6], [7, 6], [17, 4]]);
});

test("both sections keep a bar", () => {
  assert.deepEqual(withBorder(SECTIONS, 0, -3, 20).map((s) => s.bars), [1, 11, 4]);
  assert.deepEqual(withBorder(SECTIONS, 0, 99, 20).map((s) => s.bars), [11, 1, 4]);
});

test("where nothing touches only the end moves, as far as the song goes", () => {
  assert.deepEqual(withBorder(SECTIONS, 1, 14, 20).map((s) => s.bars), [4, 9, 4]);
  assert.deepEqual(withBorder(SECTIONS, 2, 99, 20).map((s) => s.bars), [4, 8, 4]);
});
