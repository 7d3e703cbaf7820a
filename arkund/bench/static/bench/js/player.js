// Playing: lanes of sound rendered by the server, three states side by side on one clock.
//
// Each state (as recorded, now, removed) is held in chunks of half a tile or less, fetched from the
// playhead on and scheduled at exact frames; all states that are there run together, only one is let
// through, so switching is at the same sample. A change swaps new chunks in under the old ones. What an
// ear waits for is asked for chunk by chunk, all else a tile at a time.
import { getBytes, notify } from "./api.js";
import { FOR_GOOD, address, bench, loopFrames, loops, on, query, tell } from "./bench.js";

const AHEAD_S = 0.4;
const FADE_S = 0.008;
// The soonest moment that can still be met.
const SOON_S = 0.015;
// By what the last chunk took the next one arrives in time.
const MARGIN = 1.25;
const REST_MS = 1200;
const LEAST_S = 0.1;
// A change is never begun farther ahead of the playhead.
const LATEST_S = 0.8;
// What sounds within so long, and has changed, is waited for by an ear.
const EAR_S = 0.5;
// Of a long loop what lies so far ahead is asked for as the playhead comes near, and what lies so far behind
// is let go of.
const WINDOW_S = 40, ASKED_EVERY_S = 5, BEHIND_S = 20;
const VARIANTS = ["now", "recorded", "removed", "other"];

class Player {
  constructor() {
    this.variant = "now";
    this.node = "output";
    this.playing = false;
    this.matched = true;
    this.matchDb = 0;
    this.mono = false;
    // Another revision to hear beside the present one, or the present one without its try.
    this.other = null;
    this.otherDb = 0;
    this.stats = { buffers: 0, swaps: [], errors: 0 };
    // How long the first chunk after a change took, in s: it should arrive before its place has passed.
    this.took = 0.1;
    this.hold();
    this.states = {};
    // Lanes beside the states, heard on top of what is now (`live.js`).
    this.lanes = [];
    for (const v of VARIANTS) this.states[v] = { chunks: new Map(), epoch: 0, next: 0, live: [] };
    this.start = 0;
    this.length = 1;
    this.setSpan();
  }

  // What sounds is asked for as it was first heard: when a try is kept its sound stays the same.
  hold() {
    this.asking = { rev: bench.revision, patch: Object.keys(bench.patch).length ? JSON.stringify(bench.patch) : "" };
  }

  setSpan() {
    [this.start, this.stop] = loopFrames();
    this.length = this.stop - this.start;
    // Chunks end where the server's tiles do and half-way, so that each needs but one of them.
    const least = LEAST_S * bench.rate, half = bench.tile / 2;
    this.edges = [0];
    for (let at = (Math.floor(this.start / half) + 1) * half; at < this.stop - least; at += half) {
      if (at - this.start > least) this.edges.push(at - this.start);
    }
    this.edges.push(this.length);
    this.count = this.edges.length - 1;
  }

  // Which chunk holds a place within the loop.
  chunkAt(inLoop) {
    return Math.max(0, this.edges.findLastIndex((edge, n) => n < this.count && edge <= inLoop));
  }

  open() {
    if (this.context) return;
    this.context = new AudioContext({ sampleRate: bench.rate, latencyHint: "interactive" });
    this.out = this.context.createGain();
    this.fold = this.context.createGain();
    this.out.connect(this.fold).connect(this.context.destination);
    for (const v of VARIANTS) {
      this.states[v].gain = this.context.createGain();
      this.states[v].gain.connect(this.out);
    }
    for (const name of this.lanes) this.connect(this.states[name]);
    this.applyGains(0);
    this.setMono(this.mono);
  }

  // A node that runs on the same clock, at no gain until somebody turns its sides up.
  addLane(name, node) {
    this.states[name] = { chunks: new Map(), epoch: 0, next: 0, live: [], node };
    this.lanes.push(name);
    if (this.context) this.connect(this.states[name]);
  }

  // Another station has other hands.
  dropLanes() {
    for (const name of this.lanes) {
      const state = this.states[name];
      this.forget(name);
      if (this.context) this.silence(state, this.context.currentTime);
      delete this.states[name];
    }
    this.lanes = [];
  }

  connect(state) {
    const apart = this.context.createChannelSplitter(2), together = this.context.createChannelMerger(2);
    state.gain = this.context.createGain();
    state.gain.connect(apart);
    state.sides = [0, 1].map((n) => {
      const side = this.context.createGain();
      side.gain.value = 0;
      apart.connect(side, n);
      side.connect(together, 0, n);
      return side;
    });
    together.connect(this.states.now.gain);
  }

  get every() {
    return [...VARIANTS, ...this.lanes];
  }

  // Both sides folded to one by the channel rules of the audio graph.
  setMono(mono) {
    this.mono = mono;
    if (!this.context) return;
    this.fold.channelCount = mono ? 1 : 2;
    this.fold.channelCountMode = "explicit";
  }

  applyGains(fade = FADE_S) {
    if (!this.context) return;
    for (const v of VARIANTS) {
      // The reference is the same in every state, and as loud as the drums in each.
      const db = this.node === "reference" ? this.matchDb : { recorded: this.matchDb, other: this.otherDb }[v] || 0;
      const match = this.matched ? 10 ** (db / 20) : 1;
      const target = v === this.variant ? match : 0;
      const gain = this.states[v].gain.gain;
      const now = this.context.currentTime;
      gain.cancelScheduledValues(now);
      gain.setTargetAtTime(target, now, Math.max(fade, 0.001) / 3);
    }
  }

  async play() {
    this.open();
    await this.context.resume();
    this.playing = true;
    const rate = bench.rate;
    // On a whole frame, so that chunks meet without interpolation.
    this.t0 = Math.ceil((this.context.currentTime + 0.06) * rate) / rate - (this.resumeAt || 0) / rate;
    for (const v of this.every) this.states[v].next = this.resumeAt || 0;
    this.askedAt = 0;
    this.timer = setInterval(() => this.tick(), 40);
    this.fetchAll();
    tell("playing", true);
  }

  pause() {
    this.resumeAt = this.playing ? this.position() - this.start : this.resumeAt;
    this.playing = false;
    clearInterval(this.timer);
    for (const v of this.every) this.silence(this.states[v], this.context ? this.context.currentTime : 0);
    tell("playing", false);
  }

  // Frames since the loop first began, then the place within the song.
  elapsed(at = this.context.currentTime) {
    return Math.max(0, Math.round((at - this.t0) * bench.rate));
  }

  position() {
    if (!this.playing || !this.context) return this.start + (this.resumeAt || 0);
    return this.start + (this.elapsed() % this.length);
  }

  tick() {
    if (!this.playing) return;
    if (!loops() && this.elapsed() >= this.length) {
      this.pause();
      this.resumeAt = 0;
      return;
    }
    for (const v of this.every) this.schedule(v);
    if (this.isLong) this.followWindow();
  }

  get isLong() { return this.length > WINDOW_S * bench.rate; }

  followWindow() {
    const at = this.elapsed();
    if (at - this.askedAt < ASKED_EVERY_S * bench.rate) return;
    this.askedAt = at;
    for (const v of this.every) {
      const { chunks } = this.states[v];
      for (const index of [...chunks.keys()]) {
        const ahead = (this.edges[index] - (at % this.length) + this.length) % this.length;
        if (ahead > (WINDOW_S + ASKED_EVERY_S) * bench.rate && this.length - ahead > BEHIND_S * bench.rate) chunks.delete(index);
      }
    }
    this.fetchAll();
  }

  schedule(v) {
    const state = this.states[v];
    const rate = bench.rate;
    const now = this.context.currentTime;
    state.live = state.live.filter((piece) => piece.end > now - 0.1);
    const soonest = this.elapsed(now + SOON_S);
    if (state.next < soonest) state.next = soonest;
    while (this.t0 + state.next / rate < now + AHEAD_S && (loops() || state.next < this.length)) {
      const inLoop = state.next % this.length;
      const index = this.chunkAt(inLoop);
      const entry = state.chunks.get(index);
      if (!entry) return;
      const offset = inLoop - this.edges[index];
      const left = Math.min(entry.buffer.length, this.edges[index + 1] - this.edges[index]) - offset;
      if (left <= 0) { state.next += 1; continue; }
      this.begin(state, entry, this.t0 + state.next / rate, offset, left);
      state.next += left;
    }
  }

  begin(state, entry, when, offset, frames) {
    const source = this.context.createBufferSource();
    const gain = this.context.createGain();
    source.buffer = entry.buffer;
    gain.gain.value = entry.scale;
    if (state.rising) {
      // What comes in under old sound rises as that falls.
      gain.gain.setValueAtTime(0, when);
      gain.gain.linearRampToValueAtTime(entry.scale, when + FADE_S);
      state.rising = false;
    }
    source.connect(gain).connect(state.gain);
    source.start(when, offset / bench.rate, frames / bench.rate);
    state.live.push({ source, gain, when, end: when + frames / bench.rate, scale: entry.scale });
  }

  silence(state, at) {
    for (const piece of state.live) {
      const end = at + FADE_S;
      piece.gain.gain.setValueAtTime(piece.scale, Math.max(at, piece.when));
      piece.gain.gain.linearRampToValueAtTime(0, Math.max(end, piece.when + 0.001));
      try { piece.source.stop(Math.max(end, piece.when + 0.002)); } catch { /* already over */ }
    }
    state.live = [];
  }

  // New sound under the old, at the next moment that can still be met.
  swap(v, index) {
    if (!this.playing) return;
    const state = this.states[v];
    const at = this.context.currentTime + SOON_S;
    state.rising = state.live.some((piece) => piece.when < at);
    this.silence(state, at);
    state.next = this.elapsed(at);
    this.schedule(v);
    if (v === this.variant) this.note(index, at);
    if (v === this.variant) tell("swapped");
  }

  // How long after letting go the first changed sample sounds; a chunk whose place has passed when
  // it arrives is none, its follower is.
  note(index, at) {
    const inLoop = this.elapsed(at) % this.length;
    const wait = this.chunkAt(inLoop) === index ? 0 : (this.edges[index] - inLoop + this.length) % this.length;
    if (!window.arkundPointerUp || wait > bench.tile) return;
    this.stats.swaps.push(performance.now() - window.arkundPointerUp + 1000 * (SOON_S + wait / bench.rate));
    window.arkundPointerUp = 0;
  }

  // From the place on that the playhead will have reached when the first chunk arrives.
  order() {
    const ahead = (MARGIN * this.took + SOON_S) * bench.rate;
    const first = this.playing ? this.chunkAt((this.position() - this.start + ahead) % this.length) : this.chunkAt(this.resumeAt || 0);
    const order = Array.from({ length: this.count }, (_, i) => (first + i) % this.count);
    if (!this.isLong) return order;
    const wait = (index) => (this.edges[index] - this.edges[first] + this.length) % this.length;
    return order.filter((index) => wait(index) < WINDOW_S * bench.rate);
  }

  // What is heard comes first; the other states follow once it is there and the hand has rested.
  async fetchAll() {
    const mine = (this.round = (this.round || 0) + 1);
    await this.fetchVariant(this.variant);
    for (const lane of this.lanes) {
      if (this.round !== mine) return;
      await this.fetchVariant(lane);
    }
    for (const v of VARIANTS.filter((one) => one !== this.variant && (one !== "other" || this.other))) {
      await new Promise((rest) => setTimeout(rest, REST_MS));
      if (this.round !== mine) return;
      await this.fetchVariant(v);
    }
  }

  async fetchVariant(v) {
    const state = this.states[v];
    const epoch = state.epoch;
    // One loop a state and epoch: the one that is under way will do.
    if (state.fetching === epoch) return;
    state.fetching = epoch;
    try {
      await this.fetchChunks(v, state, epoch);
    } finally {
      if (state.fetching === epoch) state.fetching = null;
    }
  }

  async fetchChunks(v, state, epoch) {
    let first = true;
    const isDone = (index) => state.chunks.get(index)?.epoch === epoch;
    for (const index of this.order()) {
      if (state.epoch !== epoch) return;
      if (isDone(index)) continue;
      const have = state.chunks.has(index);
      // Swapped in under old sound: an ear waits for it.
      const soon = have && v === this.variant && (first || this.isSoon(index));
      let last = index + 1;
      if (!soon) while (last < this.count && !this.endsTile(last) && !isDone(last)) last += 1;
      const edges = this.edges.slice(index, last + 1);
      const text = this.asked(v, this.start + edges[0], edges.at(-1) - edges[0]) + (soon ? "&at_once=1" : "");
      if (v === this.variant) tell("loading", `rendering ${last} of ${this.count}`);
      try {
        const asked = performance.now();
        state.under = new AbortController();
        const { bytes, headers } = await getBytes(`${address("pcm/")}?${text}`, { signal: state.under.signal });
        if (state.epoch !== epoch) return;
        this.warn(headers.get("X-Broken"));
        if (first && have) this.took = Math.min((performance.now() - asked) / 1000, LATEST_S);
        this.decode(bytes, headers, edges).forEach((entry, n) => state.chunks.set(index + n, { epoch, ...entry }));
        this.stats.buffers += 1;
        if (have && this.playing && (first || this.isNear(index, last))) this.swap(v, index);
        else if (this.playing) this.schedule(v);
        first = false;
      } catch (error) {
        if (state.epoch !== epoch) return;
        this.stats.errors += 1;
        tell("loading", "");
        if (v === this.variant) notify(error.message);
        return;
      }
    }
    if (v === this.variant) tell("loading", "");
  }

  // Said once, until another sentence or none comes.
  warn(broken) {
    const words = broken ? decodeURIComponent(broken) : "";
    if (words && words !== this.warned) notify(words);
    this.warned = words;
  }

  endsTile(edge) {
    return (this.start + this.edges[edge]) % bench.tile === 0;
  }

  // Whether a chunk is sounding or will be before long.
  isSoon(index) {
    const at = this.position() - this.start;
    const wait = (this.edges[index] - at + this.length) % this.length;
    return this.playing && (this.chunkAt(at) === index || wait < EAR_S * bench.rate);
  }

  // Whether one of the chunks from ``first`` to before ``last`` is sounding or already set to sound.
  isNear(first, last) {
    const at = this.position() - this.start, ahead = AHEAD_S * bench.rate;
    const set = [at, (at + ahead / 2) % this.length, (at + ahead) % this.length].map((n) => this.chunkAt(n));
    return set.some((n) => first <= n && n < last);
  }

  asked(v, start, frames) {
    const span = { node: this.states[v].node || this.node, start, frames };
    if (this.states[v].node) return query({ ...span, variant: "now", ...this.asking });
    if (v !== "other") return query({ ...span, variant: v, ...this.asking });
    return query({ ...span, variant: "now", rev: this.other.rev, patch: this.other.patch || "" });
  }

  // The chunks between ``edges`` from the sound of all of them.
  decode(bytes, headers, edges) {
    this.open();
    const channels = Number(headers.get("X-Channels"));
    const samples = new Int16Array(bytes), frames = samples.length / channels;
    return edges.slice(1).map((edge, n) => {
      const begin = edges[n] - edges[0], length = edge - edges[n];
      const buffer = this.context.createBuffer(2, length, bench.rate);
      for (let c = 0; c < 2; c += 1) {
        const from = (c % channels) * frames + begin;
        const part = samples.subarray(from, from + length), data = buffer.getChannelData(c);
        for (let i = 0; i < part.length; i += 1) data[i] = part[i] / 32767;
      }
      return { buffer, scale: Number(headers.get("X-Scale")) };
    });
  }

  // What was rendered of these states no longer holds; it sounds on until its successor is there.
  refresh(variants = ["now", "removed"]) {
    this.hold();
    for (const v of [...variants, ...this.lanes]) this.forget(v);
    if (this.context) this.fetchAll();
  }

  // What is under way for a state is for nobody any more; the server stops rendering it.
  forget(v) {
    this.states[v].epoch += 1;
    this.states[v].under?.abort();
  }

  restart() {
    const was = this.playing;
    if (was) this.pause();
    this.setSpan();
    this.hold();
    this.resumeAt = 0;
    for (const v of this.every) { this.forget(v); this.states[v].chunks.clear(); }
    if (was) this.play();
  }

  hear(node) {
    this.node = node;
    for (const v of VARIANTS) this.forget(v);
    if (this.context) this.fetchAll();
  }

  setOther(other) {
    this.other = other;
    this.otherDb = 0;
    const state = this.states.other;
    this.forget("other");
    if (!other) {
      state.chunks.clear();
      if (this.context) this.silence(state, this.context.currentTime);
    } else if (this.context) this.fetchAll();
  }

  choose(variant) {
    this.variant = variant;
    this.applyGains();
    if (this.context) this.fetchAll();
  }
}

export const player = new Player();
on("sound", () => player.refresh(), FOR_GOOD);
on("loop", () => player.restart(), FOR_GOOD);
window.arkund = { player, bench };
