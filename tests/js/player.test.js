import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";
import { asked, clock, page, pass, pieces, serve, settle } from "./playing.js";

const { player } = await import("../../arkund/bench/static/bench/js/player.js");
const { bench, setLooping, tell, tryValues } = await import("../../arkund/bench/static/bench/js/bench.js");
const OLD = 100, NEW = 200;
const FADE_S = 0.008, FRAME = 1 / page.rate;

// What sounds of the state that is heard, in the order in which it begins.
const heard = () => pieces.filter((piece) => piece.into === player.states.now.gain).sort((a, b) => a.when - b.when);
const near = (a, b, by = 1e-9) => assert.ok(Math.abs(a - b) <= by, `${a} is not ${b}`);

async function playing() {
  player.play();
  await settle();
  await serve(OLD, (one) => one.variant === "now");
}

beforeEach(async () => {
  player.pause();
  player.resumeAt = 0;
  bench.patch = {};
  for (const state of Object.values(player.states)) { state.chunks.clear(); state.epoch += 1; state.fetching = null; }
  await pass(5);
  asked.length = 0;
  pieces.length = 0;
});

test("chunks follow each other frame by frame, over the loop's seam too", async () => {
  await playing();
  await pass(9.5); // a loop of four seconds, more than twice
  const sound = heard();
  assert.ok(sound.length > 16);
  sound.slice(1).forEach((piece, n) => near(piece.when, sound[n].end));
  // Frame by frame it is the loop: what begins where the seam is begins at the first frame.
  const begun = sound[0].when;
  const atSeam = sound.find((piece) => Math.abs(piece.when - begun - 4) < FRAME / 2);
  assert.equal(atSeam.offset, 0);
  assert.ok(sound.every((piece) => piece.stopped === Infinity));
});

test("the playhead is the sound's own clock", async () => {
  await playing();
  const begun = heard()[0].when;
  await pass(1.3);
  near(player.position() / page.rate, clock.now - begun, FRAME);
  await pass(4);
  near(player.position() / page.rate, clock.now - begun - 4, FRAME);
});

test("a change comes in under the old sound: one falls while the other rises, at one moment", async () => {
  await playing();
  await pass(0.7);
  tryValues({ "mics.kick_in.fader_db": -3 });
  tell("sound");
  await serve(NEW, (one) => one.variant === "now");
  const fresh = heard().filter((piece) => piece.mark === NEW);
  const old = heard().filter((piece) => piece.mark === OLD && piece.stopped !== Infinity && piece.when < fresh[0].when);
  assert.ok(fresh.length && old.length);
  near(old.at(-1).stopped, fresh[0].when + FADE_S, FRAME);
  const { when, ramps } = fresh[0];
  assert.deepEqual(ramps.steps.slice(0, 2), [["set", 0, when], ["ramp", 1, when + FADE_S]]);
  assert.deepEqual(old.at(-1).ramps.steps.at(-1)[1], 0);
  // It begins where the song is, not at a chunk's first frame.
  near(fresh[0].when, clock.now + 0.015, 2 * FRAME);
});

test("what an ear waits for is asked for first and alone, the rest a tile at a time", async () => {
  await playing();
  await pass(0.2);
  tryValues({ "mics.kick_in.fader_db": -6 });
  tell("sound");
  await settle();
  const first = asked.find((one) => one.variant === "now");
  assert.equal(first.at_once, "1");
  assert.ok(first.frames <= page.tile / 2);
  assert.equal(JSON.parse(first.patch)["mics.kick_in.fader_db"], -6);
});

test("a chunk that comes late does not stop the song: old sound goes on until it is there", async () => {
  await playing();
  await pass(0.3);
  tell("sound");
  await pass(2.6); // the server sleeps
  const sound = heard();
  assert.ok(sound.at(-1).end > clock.now);
  sound.slice(1).forEach((piece, n) => near(piece.when, sound[n].end));
  await serve(NEW, (one) => one.variant === "now");
  await pass(1);
  assert.ok(heard().some((piece) => piece.mark === NEW && piece.when < clock.now));
});

test("where nothing was rendered in time the song is where it would be, not where it stopped", async () => {
  player.play();
  await settle();
  await pass(1.4);
  assert.equal(heard().length, 0);
  await serve(OLD, (one) => one.variant === "now");
  await pass(0.1);
  const first = heard()[0];
  const place = (player.position() - player.start) / page.rate - (clock.now - first.when);
  near(first.offset + player.edges[player.chunkAt(Math.round(place * page.rate))] / page.rate, place, 2 * FRAME);
});

test("a second change gives up what was asked for the first", async () => {
  await playing();
  tell("sound");
  await settle();
  const before = asked.find((one) => one.variant === "now");
  tell("sound");
  await settle();
  assert.ok(!asked.includes(before));
  assert.equal(asked.filter((one) => one.variant === "now").length, 1);
});

test("switching between states turns gains alone, and takes a match of loudness with it", async () => {
  await playing();
  player.matchDb = -6;
  const count = pieces.length;
  player.choose("recorded");
  const target = (state) => player.states[state].gain.gain.steps.at(-1)[1];
  near(target("recorded"), 10 ** (-6 / 20), 1e-6);
  assert.equal(target("now"), 0);
  assert.equal(pieces.length, count);
  player.choose("now");
  assert.equal(target("now"), 1);
});

test("a pause ends in a ramp and goes on from where it was", async () => {
  await playing();
  await pass(1);
  const at = player.position();
  player.pause();
  heard().filter((piece) => piece.end > clock.now).forEach((piece) => assert.ok(piece.stopped >= clock.now + FADE_S - 1e-9));
  await pass(3);
  near(player.position(), at, 1);
});

test("without a loop the song goes on behind the bars, and ends", async () => {
  setLooping(false);
  try {
    await playing();
    await pass(9.5);
    const sound = heard();
    sound.slice(1).forEach((piece, n) => near(piece.when, sound[n].end));
    near(sound.at(-1).end - sound[0].when, 8, FRAME);
    assert.equal(player.playing, false);
    assert.equal(player.position(), 0);
  } finally {
    setLooping(true);
  }
});
