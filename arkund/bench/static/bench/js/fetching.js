// Getting a player's sound from the server: what is heard first, from the playhead on; what an ear waits for
// chunk by chunk, all else a tile at a time.
import { getBytes, notify } from "./api.js";
import { address, bench, query, tell } from "./bench.js";

// The soonest moment that can still be met.
export const SOON_S = 0.015;
// What is set to sound ahead of the playhead.
export const AHEAD_S = 0.4;
// By what the last chunk took the next one arrives in time.
const MARGIN = 1.25;
const REST_MS = 1200;
// A change is never begun farther ahead of the playhead.
const LATEST_S = 0.8;
// What sounds within so long, and has changed, is waited for by an ear.
const EAR_S = 0.5;
// Of a long loop what lies so far ahead is asked for as the playhead comes near, and what lies so far behind
// is let go of.
const WINDOW_S = 40, ASKED_EVERY_S = 5, BEHIND_S = 20;

export class Fetching {
  // `variants` are the player's states but its lanes.
  constructor(player, variants) {
    Object.assign(this, { player, variants, round: 0, askedAt: 0 });
    // How long the first chunk after a change took, in s: it should arrive before its place has passed.
    this.took = 0.1;
    this.hold();
  }

  // What sounds is asked for as it was first heard: when a try is kept its sound stays the same.
  hold() {
    this.asking = { rev: bench.revision, patch: Object.keys(bench.patch).length ? JSON.stringify(bench.patch) : "" };
  }

  get isLong() { return this.player.length > WINDOW_S * bench.rate; }

  // What is heard comes first; the other states follow once it is there and the hand has rested.
  async all() {
    const { player } = this, mine = (this.round += 1);
    await this.state(player.variant);
    for (const beside of [...player.lanes, ...player.rungs]) {
      if (this.round !== mine) return;
      await this.state(beside);
    }
    for (const v of this.variants.filter((one) => one !== player.variant && (one !== "other" || player.other))) {
      await new Promise((rest) => setTimeout(rest, REST_MS));
      if (this.round !== mine) return;
      await this.state(v);
    }
  }

  // Of a long loop: on to what comes, away with what has been.
  followWindow() {
    const { player } = this, at = player.elapsed();
    if (at - this.askedAt < ASKED_EVERY_S * bench.rate) return;
    this.askedAt = at;
    for (const v of player.every) {
      const { chunks } = player.states[v];
      for (const index of [...chunks.keys()]) {
        const ahead = player.chunks.wait(index, at % player.length);
        if (ahead > (WINDOW_S + ASKED_EVERY_S) * bench.rate && player.length - ahead > BEHIND_S * bench.rate) chunks.delete(index);
      }
    }
    this.all();
  }

  async state(v) {
    const state = this.player.states[v], { epoch } = state;
    // One loop a state and epoch: the one that is under way will do.
    if (state.fetching === epoch) return;
    state.fetching = epoch;
    try {
      await this.chunksOf(v, state, epoch);
    } finally {
      if (state.fetching === epoch) state.fetching = null;
    }
  }

  async chunksOf(v, state, epoch) {
    const { player } = this, { chunks } = player;
    let first = true;
    const isDone = (index) => state.chunks.get(index)?.epoch === epoch;
    for (const index of this.order()) {
      if (state.epoch !== epoch) return;
      if (isDone(index)) continue;
      const have = state.chunks.has(index);
      // Swapped in under old sound: an ear waits for it.
      const soon = have && v === player.variant && (first || this.isSoon(index));
      let last = index + 1;
      if (!soon) while (last < chunks.count && !chunks.endsTile(last) && !isDone(last)) last += 1;
      const edges = chunks.edges.slice(index, last + 1);
      const text = this.asked(v, player.start + edges[0], edges.at(-1) - edges[0]) + (soon ? "&at_once=1" : "");
      if (v === player.variant) tell("loading", `rendering ${last} of ${chunks.count}`);
      try {
        const asked = performance.now();
        state.under = new AbortController();
        const { bytes, headers } = await getBytes(`${address("pcm/")}?${text}`, { signal: state.under.signal });
        if (state.epoch !== epoch) return;
        this.warn(headers.get("X-Broken"));
        if (first && have) this.took = Math.min((performance.now() - asked) / 1000, LATEST_S);
        this.decode(bytes, headers, edges).forEach((entry, n) => state.chunks.set(index + n, { epoch, ...entry }));
        player.stats.buffers += 1;
        if (have && player.playing && (first || this.isNear(index, last))) player.swap(v, index);
        else if (player.playing) player.schedule(v);
        first = false;
      } catch (error) {
        if (state.epoch !== epoch) return;
        player.stats.errors += 1;
        tell("loading", "");
        if (v === player.variant) notify(error.message);
        return;
      }
    }
    if (v === player.variant) tell("loading", "");
  }

  // From the place on that the playhead will have reached when the first chunk arrives.
  order() {
    const { player } = this, { chunks } = player, ahead = (MARGIN * this.took + SOON_S) * bench.rate;
    const place = player.playing ? (player.position() - player.start + ahead) % player.length : player.resumeAt || 0;
    return chunks.from(chunks.at(place), this.isLong ? WINDOW_S * bench.rate : Infinity);
  }

  // Whether a chunk is sounding or will be before long.
  isSoon(index) {
    const { player } = this, at = player.position() - player.start;
    return player.playing && (player.chunks.at(at) === index || player.chunks.wait(index, at) < EAR_S * bench.rate);
  }

  // Whether one of the chunks from ``first`` to before ``last`` is sounding or already set to sound.
  isNear(first, last) {
    const { player } = this, at = player.position() - player.start, ahead = AHEAD_S * bench.rate;
    const set = [at, (at + ahead / 2) % player.length, (at + ahead) % player.length].map((n) => player.chunks.at(n));
    return set.some((n) => first <= n && n < last);
  }

  asked(v, start, frames) {
    const { player } = this, { node, asked } = player.states[v], span = { node: node || player.node, start, frames };
    if (node) return query({ ...span, variant: "now", ...this.asking });
    if (asked) return query({ ...span, variant: "now", ...asked });
    if (v !== "other") return query({ ...span, variant: v, ...this.asking });
    return query({ ...span, variant: "now", rev: player.other.rev, patch: player.other.patch || "" });
  }

  // The chunks between ``edges`` from the sound of all of them.
  decode(bytes, headers, edges) {
    this.player.open();
    const channels = Number(headers.get("X-Channels"));
    const samples = new Int16Array(bytes), frames = samples.length / channels;
    return edges.slice(1).map((edge, n) => {
      const begin = edges[n] - edges[0], length = edge - edges[n];
      const buffer = this.player.context.createBuffer(2, length, bench.rate);
      for (let c = 0; c < 2; c += 1) {
        const from = (c % channels) * frames + begin;
        const part = samples.subarray(from, from + length), data = buffer.getChannelData(c);
        for (let i = 0; i < part.length; i += 1) data[i] = part[i] / 32767;
      }
      return { buffer, scale: Number(headers.get("X-Scale")) };
    });
  }

  // Said once, until another sentence or none comes.
  warn(broken) {
    const words = broken ? decodeURIComponent(broken) : "";
    if (words && words !== this.warned) notify(words);
    this.warned = words;
  }
}
