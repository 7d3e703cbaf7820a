// A page without a browser: its clock stands until it is turned, its sound is a list of what was set to sound
// and its server answers when it is told to.
const noop = () => {};
const classList = { add: noop, remove: noop, toggle: noop };
const element = () => ({ textContent: "", hidden: true, classList, setAttribute: noop });

class Param {
  constructor(value = 1) { this.value = value; this.steps = []; }
  setValueAtTime(value, at) { this.steps.push(["set", value, at]); }
  linearRampToValueAtTime(value, at) { this.steps.push(["ramp", value, at]); }
  setTargetAtTime(value, at, constant) { this.steps.push(["target", value, at, constant]); }
  cancelScheduledValues() { this.steps = []; }
}

class Node {
  constructor() { this.gain = new Param(); }
  connect(next) { return next; }
}

// All that was ever set to sound: when, from which frame of its chunk, how long, until when.
export const pieces = [];

class Source extends Node {
  // Through a gain of its own, which rises or falls, into its state.
  connect(gain) {
    this.ramps = gain.gain;
    return { connect: (state) => { this.into = state; } };
  }
  start(when, offset, seconds) {
    const { into, ramps } = this;
    this.piece = { when, offset, end: when + seconds, mark: this.buffer.mark, stopped: Infinity, into, ramps };
    pieces.push(this.piece);
  }
  stop(at) { this.piece.stopped = at; }
}

export const clock = { now: 10 };
class Context {
  constructor() { this.destination = new Node(); }
  get currentTime() { return clock.now; }
  createGain() { return new Node(); }
  createChannelSplitter() { return new Node(); }
  createChannelMerger() { return new Node(); }
  createBufferSource() { return new Source(); }
  createBuffer(channels, length) {
    const data = Array.from({ length: channels }, () => new Float32Array(length));
    // The first sample names the sound that was rendered.
    return { length, getChannelData: (c) => data[c], get mark() { return Math.round(data[0][0] * 32767); } };
  }
  async resume() {}
}

export const page = {
  slug: "copper-weather", revision: 1, mic: "kick_in", rate: 1000, tile: 1000, frames: 8000, bars: 4, loop: [1, 2],
  bar_starts: [0, 2, 4, 6, 8], sheet: {}, live: [], pan_gains: [[1, 0], [0.7071, 0.7071], [0, 1]], off_db: -60,
};

const timers = [];
// What was asked of the server and is not answered yet.
export const asked = [];

globalThis.window = globalThis;
globalThis.AudioContext = Context;
globalThis.document = {
  getElementById: (id) => (id === "bench" ? { textContent: JSON.stringify(page) } : element()),
  querySelector: () => ({ value: "token" }), querySelectorAll: () => [], documentElement: { classList },
};
globalThis.location = new URL("http://localhost/copper-weather/level/");
globalThis.history = { replaceState: noop };
globalThis.setInterval = (run, every) => { const timer = { run, every, at: clock.now + every / 1000 }; timers.push(timer); return timer; };
globalThis.clearInterval = (timer) => { if (timers.includes(timer)) timers.splice(timers.indexOf(timer), 1); };
globalThis.setTimeout = (run, wait = 0) => { const timer = { run, at: clock.now + wait / 1000, once: true }; timers.push(timer); return timer; };
globalThis.clearTimeout = globalThis.clearInterval;
globalThis.performance = { now: () => clock.now * 1000 };
globalThis.fetch = (url, { signal } = {}) => new Promise((answer, refuse) => {
  const values = Object.fromEntries(new URL(url, "http://localhost").searchParams);
  const question = { url, ...values, start: Number(values.start), frames: Number(values.frames) };
  signal?.addEventListener("abort", () => { asked.splice(asked.indexOf(question), 1); refuse(Object.assign(new Error("gone"), { name: "AbortError" })); });
  question.answer = (mark) => {
    asked.splice(asked.indexOf(question), 1);
    const sound = new Int16Array(2 * question.frames).fill(mark);
    const headers = new Map([["X-Channels", "2"], ["X-Scale", "1"]]);
    answer({ ok: true, arrayBuffer: async () => sound.buffer, headers: { get: (name) => headers.get(name) ?? null } });
  };
  asked.push(question);
});

// What is promised is kept before time goes on.
export async function settle() {
  for (let n = 0; n < 20; n += 1) await Promise.resolve();
}

// Turns the clock by so many seconds; whatever was to happen in between happens in its order.
export async function pass(seconds) {
  const end = clock.now + seconds;
  for (;;) {
    await settle();
    const next = timers.filter((t) => t.at <= end).sort((a, b) => a.at - b.at)[0];
    if (!next) break;
    clock.now = Math.max(clock.now, next.at);
    if (next.once) clearInterval(next); else next.at += next.every / 1000;
    next.run();
  }
  clock.now = end;
  await settle();
}

// Answers all that is asked for, with sound that bears this mark.
export async function serve(mark, which = () => true) {
  for (;;) {
    await settle();
    const question = asked.find(which);
    if (!question) return;
    question.answer(mark);
  }
}
