// A loop's chunks: where they end, which holds a place, and in which order they are asked for.
import assert from "node:assert/strict";
import { test } from "node:test";
import { Chunks } from "../../arkund/bench/static/bench/js/chunks.js";

const RATE = 1000, TILE = 2000;
const made = (start, stop) => new Chunks({ start, stop, tile: TILE, rate: RATE });

test("chunks end where tiles do and half-way, and none is shorter than a tenth of a second", () => {
  assert.deepEqual(made(500, 4500).edges, [0, 500, 1500, 2500, 3500, 4000]);
  assert.deepEqual(made(950, 2050).edges, [0, 1100]);
  assert.deepEqual(made(10, 40).edges, [0, 30]);
});

test("each place lies in one chunk", () => {
  const chunks = made(500, 4500);
  assert.deepEqual([0, 499, 500, 3999].map((place) => chunks.at(place)), [0, 0, 1, 4]);
});

test("they are asked for once around the loop, no farther ahead than wanted", () => {
  const chunks = made(500, 4500);
  assert.deepEqual(chunks.from(3), [3, 4, 0, 1, 2]);
  assert.deepEqual(chunks.from(3, 1600), [3, 4, 0]);
  assert.equal(chunks.wait(0, 3500), 500);
});

test("an edge ends a tile where the song's tiles end", () => {
  const chunks = made(500, 4500);
  assert.deepEqual(chunks.edges.map((_, n) => chunks.endsTile(n)), [false, false, true, false, true, false]);
});
