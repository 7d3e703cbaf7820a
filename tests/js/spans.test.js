// Spans of bars: what is typed, and what hands make of it.
import assert from "node:assert/strict";
import { test } from "node:test";
import { barsOf, joined, moved, resized, spansOf, whereAlike } from "../../arkund/bench/static/bench/js/spans.js";

test("bars are read as they are typed, and written as they are read", () => {
  assert.deepEqual(spansOf("9-16, 20"), [[9, 16], [20, 20]]);
  assert.deepEqual(spansOf("3–5"), [[3, 5]]);
  assert.deepEqual(spansOf("5-3, x, 0, 7"), [[7, 7]]);
  assert.equal(barsOf([[9, 16], [20, 20]]), "9-16, 20");
});

test("spans that touch or overlap become one", () => {
  assert.deepEqual(joined([[9, 12], [1, 2], [3, 4], [11, 14]]), [[1, 4], [9, 14]]);
});

test("a span moves with its length and stays within the song", () => {
  assert.deepEqual(moved([3, 6], 2, 20), [5, 8]);
  assert.deepEqual(moved([3, 6], -9, 20), [1, 4]);
  assert.deepEqual(moved([3, 6], 99, 20), [17, 20]);
});

test("an end moves alone, and a bar stays", () => {
  assert.deepEqual(resized([3, 6], "last", 2, 20), [3, 8]);
  assert.deepEqual(resized([3, 6], "last", -9, 20), [3, 3]);
  assert.deepEqual(resized([3, 6], "first", 9, 20), [6, 6]);
  assert.deepEqual(resized([3, 6], "first", -9, 20), [1, 6]);
  assert.deepEqual(resized([3, 6], "last", 99, 20), [3, 20]);
});

test("a difference goes to the same place of every section that is alike", () => {
  const found = [[1, 4, "A"], [5, 12, "B"], [13, 16, "A"], [17, 20, "B"]].map(([first, last, letter]) => ({ first, last, letter }));
  assert.deepEqual(whereAlike([[6, 7]], found), [[6, 7], [18, 19]]);
  assert.deepEqual(whereAlike([[1, 4]], found), [[1, 4], [13, 16]]);
  assert.deepEqual(whereAlike([[10, 12]], found), [[10, 12]]);
  assert.deepEqual(whereAlike([[30, 31]], found), [[30, 31]]);
});
