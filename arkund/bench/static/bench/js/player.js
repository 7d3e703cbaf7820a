// Playing: lanes of sound rendered by the server, three states side by side on one clock.
//
// Each state (as recorded, now, removed) is held in chunks of half a tile or less, fetched from the
// playhead on and scheduled at exact frames; all states that are there run together, only one is let
// through, so switching is at the same sample. A change swaps new chunks in under the old ones. `fetching.js`
// asks the server for them.
import { FOR_GOOD, bench, loopFrames, loops, on, tell } from "./bench.js";
import { Chunks } from "./chunks.js";
import { AHEAD_S, Fetching, SOON_S } from "./fetching.js";

const FADE_S = 0.008;
const VARIANTS = ["now", "recorded", "removed", "other"];

const fresh = (more = {}) => ({ chunks: new Map(), epoch: 0, next: 0, live: [], ...more });

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
    this.fetching = new Fetching(this, VARIANTS);
    this.states = {};
    // Rungs of a ladder, states for as long as it is open (`ladder.js`).
    this.rungs = [];
    // Lanes beside the states, heard on top of what is now (`live.js`).
    this.lanes = [];
    for (const v of VARIANTS) this.states[v] = fresh();
    this.start = 0;
    this.length = 1;
    this.setSpan();
  }

  setSpan() {
    [this.start, this.stop] = loopFrames();
    this.length = this.stop - this.start;
    this.chunks = new Chunks({ start: this.start, stop: this.stop, tile: bench.tile, rate: bench.rate });
  }

  get edges() { return this.chunks.edges; }

  get count() { return this.chunks.count; }

  chunkAt(inLoop) { return this.chunks.at(inLoop); }

  open() {
    if (this.context) return;
    this.context = new AudioContext({ sampleRate: bench.rate, latencyHint: "interactive" });
    this.out = this.context.createGain();
    this.fold = this.context.createGain();
    this.out.connect(this.fold).connect(this.context.destination);
    for (const v of this.variants) this.join(this.states[v]);
    for (const name of this.lanes) this.connect(this.states[name]);
    this.applyGains(0);
    this.setMono(this.mono);
  }

  join(state) {
    state.gain = this.context.createGain();
    state.gain.gain.value = 0;
    state.gain.connect(this.out);
  }

  // Each rung is a try of one revision, with the gain in dB that makes all equally loud.
  setRungs(rungs) {
    for (const name of this.rungs) this.drop(name);
    this.rungs = rungs.map((_, n) => `rung ${n + 1}`);
    rungs.forEach(({ rev, patch, db }, n) => {
      const state = this.states[this.rungs[n]] = fresh({ db, asked: { rev, patch: JSON.stringify(patch) } });
      if (this.context) this.join(state);
    });
    if (!this.variants.includes(this.variant)) this.variant = "now";
    this.applyGains();
    if (this.context) this.fetching.all();
  }

  // A node that runs on the same clock, at no gain until somebody turns its sides up.
  addLane(name, node) {
    this.states[name] = fresh({ node });
    this.lanes.push(name);
    if (this.context) this.connect(this.states[name]);
  }

  // Another station has other hands.
  dropLanes() {
    for (const name of this.lanes) this.drop(name);
    this.lanes = [];
  }

  drop(name) {
    this.forget(name);
    if (this.context) this.silence(this.states[name], this.context.currentTime);
    delete this.states[name];
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

  get variants() {
    return [...VARIANTS, ...this.rungs];
  }

  get every() {
    return [...this.variants, ...this.lanes];
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
    for (const v of this.variants) {
      // The reference is the same in every state, and as loud as the drums in each. Rungs are always matched.
      const db = this.node === "reference" ? this.matchDb : { recorded: this.matchDb, other: this.otherDb }[v] || 0;
      const rung = this.states[v].db, match = 10 ** ((rung ?? (this.matched ? db : 0)) / 20);
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
    this.fetching.askedAt = 0;
    this.timer = setInterval(() => this.tick(), 40);
    this.fetching.all();
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
    if (this.fetching.isLong) this.fetching.followWindow();
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
    const wait = this.chunkAt(inLoop) === index ? 0 : this.chunks.wait(index, inLoop);
    if (!window.arkundPointerUp || wait > bench.tile) return;
    this.stats.swaps.push(performance.now() - window.arkundPointerUp + 1000 * (SOON_S + wait / bench.rate));
    window.arkundPointerUp = 0;
  }

  // What was rendered of these states no longer holds; it sounds on until its successor is there.
  refresh(variants = ["now", "removed"]) {
    this.fetching.hold();
    for (const v of [...variants, ...this.lanes]) this.forget(v);
    if (this.context) this.fetching.all();
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
    this.fetching.hold();
    this.resumeAt = 0;
    for (const v of this.every) { this.forget(v); this.states[v].chunks.clear(); }
    if (was) this.play();
  }

  hear(node) {
    this.node = node;
    for (const v of this.variants) this.forget(v);
    if (this.context) this.fetching.all();
  }

  setOther(other) {
    this.other = other;
    this.otherDb = 0;
    const state = this.states.other;
    this.forget("other");
    if (!other) {
      state.chunks.clear();
      if (this.context) this.silence(state, this.context.currentTime);
    } else if (this.context) this.fetching.all();
  }

  choose(variant) {
    this.variant = variant;
    this.applyGains();
    if (this.context) this.fetching.all();
  }
}

export const player = new Player();
on("sound", () => player.refresh(), FOR_GOOD);
on("loop", () => player.restart(), FOR_GOOD);
window.arkund = { player, bench };
