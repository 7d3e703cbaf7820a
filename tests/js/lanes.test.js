import assert from "node:assert/strict";
import { test } from "node:test";
import { Hits } from "../../arkund/bench/static/bench/js/lane-hits.js";
import { NAMES, TOP, View } from "../../arkund/bench/static/bench/js/lane-view.js";

const RATE = 48000;

function made() {
  const view = new View({ start: 0, stop: RATE, frames: 10 * RATE, lanes: 4 });
  view.resize(NAMES + 1000, TOP + 400);
  return view;
}

function struck(times, more = {}) {
  const hits = new Hits((piece) => ({ kick: 0, snare: 1 })[piece] ?? 3, RATE);
  hits.take(times.map(([t, piece], n) => ({ id: `h${n}`, t, piece, late_ms: 0, ...more })), null);
  return hits;
}

test("a frame and its place lead to each other, and lanes lie under one another", () => {
  const view = made();
  assert.equal(view.x(RATE / 2), NAMES + 500);
  assert.equal(view.frameAt(NAMES + 500), RATE / 2);
  assert.deepEqual([0, 3].map((row) => view.row(view.middle(row))), [0, 3]);
});

test("the view stays within the song and stops at single samples", () => {
  const view = made();
  view.show(-RATE, RATE);
  assert.deepEqual([view.start, view.stop], [0, 2 * RATE]);
  view.show(9.5 * RATE, 11 * RATE);
  assert.deepEqual([view.start, view.stop], [8.5 * RATE, 10 * RATE]);
  view.show(100, 101);
  assert.equal(view.span, 48);
});

test("a page is turned so that the playhead stands near its left, and ends with the song", () => {
  const view = made();
  assert.deepEqual([0, RATE, RATE + 1].map((frame) => view.has(frame)), [true, true, false]);
  view.turnTo(RATE + 1);
  assert.equal(view.span, RATE);
  assert.ok(view.has(RATE + 1) && view.x(RATE + 1) < NAMES + 60);
  view.turnTo(9.9 * RATE);
  assert.equal(view.stop, 10 * RATE);
});

test("what is under the pointer stays there while it is zoomed", () => {
  const view = made();
  const px = NAMES + 300, before = view.frameAt(px);
  view.show(2 * RATE, 3 * RATE);
  const at = view.frameAt(px);
  view.zoom(px, 0.5);
  assert.ok(Math.abs(view.frameAt(px) - at) < 1e-6);
  assert.equal(view.span, RATE / 2);
  assert.notEqual(before, at);
});

test("only what is in view is drawn, in order of time", () => {
  const hits = struck([[3, "kick"], [0.5, "snare"], [0.2, "kick"], [1.0, "kick"], [1.4, "kick"]]);
  assert.deepEqual(hits.inView(made()).map((h) => h.t), [0.2, 0.5, 1.0]);
});

test("a mark is found on its own lane, or above the lanes on any", () => {
  const view = made(), hits = struck([[0.5, "snare"]]);
  assert.equal(hits.at(view, NAMES + 505, view.middle(1)).piece, "snare");
  assert.equal(hits.at(view, NAMES + 505, view.middle(0)), null);
  assert.equal(hits.at(view, NAMES + 505, 40).piece, "snare");
  assert.equal(hits.at(view, NAMES + 520, view.middle(1)), null);
});

test("a box takes what lies in it on the lanes that it touches", () => {
  const view = made(), hits = struck([[0.2, "kick"], [0.4, "snare"], [0.8, "kick"]]);
  const box = { x0: NAMES + 500, x1: NAMES + 100, y0: view.middle(0) - 5, y1: view.middle(0) + 5 };
  assert.deepEqual(hits.within(view, box).map((h) => h.t), [0.2]);
  assert.deepEqual(hits.within(view, { ...box, y1: view.middle(1) }).map((h) => h.t), [0.2, 0.4]);
});

test("one goes from a hit of a drum to its next, either way", () => {
  const view = made(), hits = struck([[0.2, "kick"], [0.4, "snare"], [0.8, "kick"]]);
  hits.chosen = [hits.all[0]];
  assert.equal(hits.next("kick", 1, view).t, 0.8);
  assert.equal(hits.next("kick", -1, view), undefined);
  assert.equal(hits.next("tom_1", 1, view), undefined);
});

test("what was chosen stays chosen when the list comes anew, and strays do not widen the span", () => {
  const hits = struck(Array.from({ length: 100 }, (_, n) => [n / 10, "kick"]), { late_ms: 8 });
  assert.equal(hits.most, 10);
  hits.chosen = [hits.all[4]];
  hits.take(hits.all.map((h, n) => ({ ...h, late_ms: n < 2 ? 90 : 15 })), null);
  assert.deepEqual([hits.chosen.map((h) => h.id), hits.most], [["h4"], 20]);
});
