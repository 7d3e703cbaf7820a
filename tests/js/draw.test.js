import assert from "node:assert/strict";
import { test } from "node:test";
import { familyOf, label, minus, outline, path } from "../../arkund/bench/static/bench/js/draw.js";

test("figures have a true minus and the digits asked for", () => {
  assert.equal(minus(-3.14159), "−3.1");
  assert.equal(minus(2, 0), "2");
});

test("mics and pieces are called as in the list", () => {
  assert.equal(label("overhead_l"), "overhead L");
  assert.equal(label("snare_bottom"), "snare bottom");
  assert.equal(label("tom_1"), "tom 1");
});

test("pieces have their family, whatever their number; all else is ambience", () => {
  assert.deepEqual(["tom_3", "crash_2", "kick", "room_l", ""].map(familyOf), ["tom", "metal", "kick", "ambience", "ambience"]);
});

test("a path moves to its first point and draws to the others", () => {
  assert.equal(path([[0, 1], [2.04, 3.06]]), "M0.0 1.0L2.0 3.1");
  for (const family of ["kick", "snare", "tom", "metal", "ambience"]) assert.match(outline(family, 5, 5, 3), /^M.*z$/);
});
