import assert from "node:assert/strict";
import { test } from "node:test";

const drawn = [];
const made = () => ({
  width: 300, height: 150,
  getContext() {
    return {
      setTransform() {}, clearRect() {},
      drawImage: (picture) => drawn.push(["picture", picture.width, picture.height]),
      fillRect: (...at) => drawn.push(["head", ...at]),
    };
  },
});
globalThis.devicePixelRatio = 2;
globalThis.document = { createElement: made, documentElement: {} };
globalThis.getComputedStyle = () => ({ getPropertyValue: () => "#a00" });
const { Still } = await import("../../arkund/bench/static/bench/js/still.js");

test("the picture is drawn under a playhead that has moved visibly, and not before", () => {
  const still = new Still(made());
  still.follow(1);
  assert.deepEqual(drawn.splice(0), []); // nothing has a size yet
  still.resize(400, 50);
  still.follow(10, { top: 5 });
  assert.deepEqual(drawn.splice(0), [["picture", 800, 100], ["head", 9.25, 5, 1.5, 45]]);
  still.follow(10.4, { top: 5 });
  assert.deepEqual(drawn.splice(0), []);
  still.follow(10.6, { top: 5 });
  assert.equal(drawn.splice(0).length, 2);
  still.follow(2, { least: 4 }); // back where the loop begins, which is out of sight
  assert.deepEqual(drawn.splice(0), [["picture", 800, 100]]);
});
