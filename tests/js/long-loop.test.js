import assert from "node:assert/strict";
import { test } from "node:test";
import { asked, page, pass, pieces, serve, settle } from "./playing.js";

const SECONDS = 400;
Object.assign(page, {
  frames: SECONDS * page.rate, bars: SECONDS / 2, loop: [1, SECONDS / 2],
  bar_starts: Array.from({ length: SECONDS / 2 + 1 }, (_, n) => 2 * n),
});
const { player } = await import("../../arkund/bench/static/bench/js/player.js");

test("of a whole song only what comes near is asked for and held, and nothing is missing", async () => {
  player.play();
  await settle();
  const farthest = () => Math.max(...asked.map((one) => one.start + one.frames));
  let most = 0;
  for (let second = 0; second < SECONDS + 20; second += 1) {
    await serve(1, (one) => one.variant === "now");
    await pass(1);
    most = Math.max(most, player.states.now.chunks.size);
    if (asked.length && second < 300) assert.ok(farthest() <= (second + 60) * page.rate, `${farthest()} at ${second}`);
  }
  const sound = pieces.filter((piece) => piece.into === player.states.now.gain);
  sound.slice(1).forEach((piece, n) => assert.ok(Math.abs(piece.when - sound[n].end) < 1e-9));
  assert.ok(sound.at(-1).end - sound[0].when > SECONDS + 15);
  // A minute's and a half worth of halves of a second.
  assert.ok(most < 180, `${most} chunks`);
  player.pause();
});
