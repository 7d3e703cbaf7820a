import assert from "node:assert/strict";
import { test } from "node:test";
import { page, pass, serve, settle } from "./playing.js";

page.live = [{ node: "kick_in", path: "mics.kick_in", level: "mics.kick_in", through: ["drum_bus.fader_db"] }];
page.sheet = { mics: { kick_in: { fader_db: -6, mute: false, pan: 0, polarity: 1 } }, drum_bus: { fader_db: 0 } };

const { player } = await import("../../arkund/bench/static/bench/js/player.js");
const { startLive } = await import("../../arkund/bench/static/bench/js/live.js");
const { bench, tell, tryValues } = await import("../../arkund/bench/static/bench/js/bench.js");

const CENTRE = 0.7071, DB = (db) => 10 ** (db / 20);
const turned = () => player.states.hand0.sides.map((side) => side.gain.steps.at(-1)[1]);
const near = (got, wanted) => got.forEach((gain, n) => assert.ok(Math.abs(gain - wanted[n]) < 1e-4, `${got} is not ${wanted}`));

test("a hand is heard at the gain by which it is off what was rendered, and no more once that is", async () => {
  startLive();
  player.play();
  await settle();
  await serve(1);
  await pass(0.5);
  near(turned(), [0, 0]);

  tryValues({ "mics.kick_in.fader_db": -12 });
  near(turned(), [0, 1].map(() => CENTRE * (DB(-12) - DB(-6))));
  tryValues({ "mics.kick_in.fader_db": -6, "mics.kick_in.pan": -1 });
  near(turned(), [(1 - CENTRE) * DB(-6), -CENTRE * DB(-6)]);
  tryValues({ "mics.kick_in.pan": 0, "mics.kick_in.mute": true });
  near(turned(), [-CENTRE * DB(-6), -CENTRE * DB(-6)]);
  tryValues({ "mics.kick_in.mute": false, "mics.kick_in.polarity": -1 });
  near(turned(), [-2 * CENTRE * DB(-6), -2 * CENTRE * DB(-6)]);

  // Rendered and swapped in: the hand is what sounds.
  tell("sound");
  await settle();
  await serve(2);
  await pass(0.2);
  near(turned(), [0, 0]);
});

test("a hand turns its lane up by no more than 6 dB until the sound is there, and is silent elsewhere", async () => {
  bench.patch = {};
  tell("sound");
  await serve(3);
  await pass(0.2);
  tryValues({ "mics.kick_in.fader_db": 12 });
  near(turned(), [0, 1].map(() => Math.max(CENTRE * DB(-6), 0.5)));
  player.hear("snare_top");
  tell("try");
  near(turned(), [0, 0]);
  player.pause();
});
