// Live hands: what a fader, pan, mute or flip changes is heard while it is still held. The lane's own
// sound runs beside the mix, on its clock, at the gain by which the hand is off what was rendered; once
// the server's sound is there that difference is none. What lies behind (compressors of groups and of
// the drum bus) follows only then.
import { bench, on, valueAt } from "./bench.js";
import { player } from "./player.js";

const GLIDE_S = 0.004;
// No limiter stands behind a hand: it turns a lane up by 6 dB at most until the rendered sound is there,
// one that was shut up to this gain.
const LEAST_ROOM = 0.5;
const MIXES = ["output", "song"];

const linear = (db) => (db <= bench.off_db ? 0 : 10 ** (db / 20));

// Gains to the left and right by the table that came with the page.
function panned(pan) {
  const table = bench.pan_gains, at = ((pan + 1) / 2) * (table.length - 1);
  const low = Math.min(Math.floor(at), table.length - 2), share = at - low;
  return table[low].map((gain, side) => gain + share * (table[low + 1][side] - gain));
}

// Reads a value with the tries on top: those of a patch, else as it was stored.
const reader = (patch) => (path) => patch[path] ?? valueAt(bench.sheet, path);

// What a lane has of the mix: of a mic its sound before fader and pan, of a bus behind its fader.
function gains(lane, read) {
  const through = lane.through.reduce((gain, path) => gain * linear(read(path)), 1);
  const level = (read(`${lane.level}.mute`) ? 0 : 1) * linear(read(`${lane.level}.fader_db`)) * through;
  if (lane.behind) return [level, level];
  return panned(read(`${lane.path}.pan`)).map((gain) => gain * level);
}

export function startLive() {
  player.dropLanes();
  const hands = (bench.live || []).map((lane, n) => ({ ...lane, name: `hand${n}`, base: null }));
  if (!hands.length) return;
  for (const hand of hands) player.addLane(hand.name, hand.node);
  // While it plays the lanes' sound is needed now, not with the next change.
  if (player.playing) player.fetching.all();
  const known = (hand, read) => ({ gains: gains(hand, read), polarity: hand.behind ? 1 : read(`${hand.path}.polarity`) });

  function rest() {
    const rendered = reader(player.fetching.asking.patch ? JSON.parse(player.fetching.asking.patch) : {});
    for (const hand of hands) hand.base = known(hand, rendered);
    move();
  }

  function move() {
    const now = reader(bench.patch);
    for (const hand of hands) {
      const sides = player.states[hand.name].sides;
      if (!sides) continue;
      const { base } = hand, wanted = known(hand, now);
      const heard = MIXES.includes(player.node) && player.variant === "now";
      sides.forEach((side, n) => {
        let by = wanted.gains[n] * wanted.polarity * base.polarity - base.gains[n];
        // Behind its fader a bus is heard as it was set.
        if (hand.behind) by = base.gains[n] > 0 ? by / base.gains[n] : 0;
        const most = hand.behind ? 1 : Math.max(base.gains[n], LEAST_ROOM);
        side.gain.setTargetAtTime(heard ? Math.min(by, most) : 0, player.context.currentTime, GLIDE_S);
      });
    }
  }

  rest();
  on("try", move);
  on("swapped", rest);
  on("playing", rest);
  on("sound", () => { if (!player.playing) rest(); });
}
