// Plays chunks in a loop and swaps the sound under the playhead without a gap.
import { getFloats } from "./api.js";

/** So long a page may be busy with drawing without a gap: what was scheduled sounds on. */
const AHEAD_S = 1.5;
const TICK_MS = 60;
const FADE_S = 0.015;
/** Time constant of a gain that changes while a sound plays. */
const SLIDE_S = 0.02;
const RESUME_MS = 500;
/** A sound that has been heard this long, or has less than that left, is fetched further. */
const SETTLED_S = 0.1;
const SHORT_S = 0.2;
/** What a change takes to come under the playhead, as a rule. */
const CHANGE_S = 0.08;
/** With less than this left of a chunk the next one is needed too; and it is asked for along with it. */
const END_S = 0.12;
const ALONG_S = 0.2;
const PREFETCH_CHUNKS = 2;
const MOST_BUFFERS = 320;

/** @typedef {{hash: string, is_exact: boolean, rate: number, chunk_frames: number, chunks: number}} Sound */

/** One sound on its way to the speakers: what is scheduled of it, and its gain. */
class Layer {
  constructor(player, sound, gain, at) {
    this.sound = sound;
    this.gain = gain;
    this.begin = at;
    this.until = at;
    this.sources = new Set();
    /** From where, when and how fast the gain last began to change, where that was after the fade in. */
    this.change = null;
    this.out = player.context.createGain();
    this.out.gain.setValueAtTime(0, at);
    this.out.gain.linearRampToValueAtTime(gain, at + FADE_S);
    this.out.connect(player.volume);
  }

  fade(context, gain) {
    if (gain === this.gain) return;
    const from = Math.max(context.currentTime, this.begin + FADE_S);
    this.change = { value: this.gainAt(from), from };
    this.gain = gain;
    this.out.gain.cancelScheduledValues(from);
    this.out.gain.setTargetAtTime(gain, from, SLIDE_S);
  }

  /** What the gain will be at a moment, as it was scheduled: a browser tells only what it is now. */
  gainAt(at) {
    if (this.change) return this.gain + (this.change.value - this.gain) * Math.exp(-Math.max(0, at - this.change.from) / SLIDE_S);
    return this.gain * Math.min(1, Math.max(0, (at - this.begin) / FADE_S));
  }

  end(at) {
    const { gain } = this.out;
    if (gain.cancelAndHoldAtTime) gain.cancelAndHoldAtTime(at);
    else {
      gain.cancelScheduledValues(at);
      gain.setValueAtTime(this.gainAt(at), at);
    }
    gain.linearRampToValueAtTime(0, at + FADE_S);
    for (const source of this.sources) source.stop(at + FADE_S + 0.01);
  }
}

export class Player {
  constructor() {
    /** @type {?AudioContext} */
    this.context = null;
    this.buffers = new Map();
    this.fetching = new Map();
    this.loop = { start_s: 0, end_s: 8 };
    this.anchor = { time: 0, position: 0 };
    this.layer = null;
    this.wanted = null;
    this.isFollowing = false;
    this.following = Promise.resolve();
    this.playing = false;
    this.isStarting = false;
    this.resting = 0;
    this.order = 0;
    this.lastSwap = null;
    this.onTrouble = (error) => console.error(error);
  }

  /** The system took the sound device: say so, and go on once it gives it back. */
  #interrupted() {
    if (!this.playing || this.context.state === "running" || this.context.state === "closed") return;
    this.onTrouble(new Error("The system interrupted the sound: it goes on when the device is free."));
    setTimeout(() => this.context.resume().catch(() => {}), RESUME_MS);
  }

  /** Make the audio context at the session's rate; only after a user's gesture. */
  open(rate) {
    if (this.context) return;
    try {
      this.context = new AudioContext({ sampleRate: rate, latencyHint: "interactive" });
    } catch {
      this.context = new AudioContext({ latencyHint: "interactive" });
      this.onTrouble(new Error(`The sound device refuses ${rate} Hz: the browser converts to ${this.context.sampleRate} Hz.`));
    }
    this.context.onstatechange = () => this.#interrupted();
    this.volume = this.context.createGain();
    this.trim = this.context.createGain();
    const split = this.context.createChannelSplitter(2);
    const merge = this.context.createChannelMerger(2);
    // What each speaker gets of left and right.
    this.crossing = [0, 1].flatMap((to) =>
      [0, 1].map((from) => {
        const gain = this.context.createGain();
        split.connect(gain, from);
        gain.connect(merge, 0, to);
        return gain;
      }),
    );
    this.volume.connect(split);
    this.analyser = this.context.createAnalyser();
    this.analyser.fftSize = 2048;
    merge.connect(this.trim).connect(this.analyser).connect(this.context.destination);
    this.setVolume(this.wantedVolume ?? -6);
    this.setFold(this.wantedFold ?? [1, 0, 0, 1]);
    this.setTrim(this.wantedTrim ?? 0);
  }

  /** What the left speaker gets of left and right, and the right one. */
  setFold(matrix) {
    this.wantedFold = matrix;
    this.crossing?.forEach(({ gain }, n) => gain.setTargetAtTime(matrix[n], this.context.currentTime, 0.005));
  }

  /** How much softer all is heard than it is, in dB; never louder. */
  setTrim(trim_db) {
    this.wantedTrim = Math.min(0, trim_db);
    this.trim?.gain.setTargetAtTime(10 ** (this.wantedTrim / 20), this.context.currentTime, 0.02);
  }

  setVolume(level_db) {
    this.wantedVolume = level_db;
    if (!this.context) return;
    const gain = level_db <= -40 ? 0 : 10 ** (level_db / 20);
    this.volume.gain.setTargetAtTime(gain, this.context.currentTime, 0.02);
  }

  /** Position in the song in seconds, now or at a time of the context. */
  position(time = this.context?.currentTime ?? 0) {
    if (!this.playing) return this.resting;
    const length = this.loop.end_s - this.loop.start_s;
    const run = Math.max(0, time - this.anchor.time) + this.anchor.position - this.loop.start_s;
    return this.loop.start_s + (((run % length) + length) % length);
  }

  /** Whether the wanted sound is heard alone, the last one faded out; or nothing plays. */
  isSettled() {
    if (!this.playing) return true;
    return !this.isFollowing && this.layer?.sound.hash === this.wanted.sound.hash && this.context.currentTime > this.layer.begin + SETTLED_S;
  }

  /** The name of what is heard now, "" while nothing plays. */
  get heard() {
    return this.playing ? this.layer.sound.hash : "";
  }

  /** The chunks that will be under the playhead when a change asked for now is there: one, or two near an end. */
  upcoming() {
    if (!this.playing) return [];
    const { sound } = this.layer;
    const position = this.position(this.context.currentTime + CHANGE_S);
    const index = this.#index(sound, position);
    const left = (index + 1) * (sound.chunk_frames / sound.rate) - position;
    const next = this.#index(sound, this.#after(position + left));
    return left < ALONG_S && next !== index ? [index, next] : [index];
  }

  /** Whether it plays, or is about to. */
  get isOn() {
    return this.playing || this.isStarting;
  }

  /** Play a sound from the resting position on. */
  async play(sound, gain) {
    this.open(sound.rate);
    const mine = ++this.order;
    this.wanted = { sound, gain };
    this.isStarting = true;
    try {
      await this.context.resume();
      if (this.resting < this.loop.start_s || this.resting >= this.loop.end_s) this.resting = this.loop.start_s;
      const begun = this.#need(sound, this.resting);
      const next_s = this.#after(this.resting + sound.chunk_frames / sound.rate);
      this.#fetch(sound, this.#index(sound, next_s)).catch(this.onTrouble);
      await begun;
    } finally {
      if (mine === this.order) this.isStarting = false;
    }
    if (mine !== this.order) return;
    const at = this.context.currentTime + 0.04;
    this.anchor = { time: at, position: this.resting };
    this.playing = true;
    this.layer = new Layer(this, sound, gain, at);
    this.#tick();
    this.timer = setInterval(() => this.#tick(), TICK_MS);
    await this.#follow();
  }

  stop() {
    this.order++;
    this.isStarting = false;
    if (!this.playing) return;
    this.resting = this.position();
    this.playing = false;
    clearInterval(this.timer);
    this.layer?.end(this.context.currentTime);
    this.layer = null;
  }

  /** Move the playhead, playing or not. */
  async seek(position) {
    const was = this.isOn;
    this.stop();
    this.resting = position;
    if (was) await this.play(this.wanted.sound, this.wanted.gain);
  }

  /** Change to another sound at the same musical position; settles when it, or a newer one, is there. */
  swap(sound, gain) {
    this.wanted = { sound, gain };
    return this.#follow();
  }

  /** Play what is heard, and what comes, at another gain. */
  setGain(gain) {
    if (!this.wanted) return;
    this.wanted.gain = gain;
    this.layer?.fade(this.context, gain);
  }

  setLoop(loop) {
    const position = this.position();
    this.loop = loop;
    if (!this.isOn) return;
    const inside = position >= loop.start_s && position < loop.end_s;
    this.seek(inside ? position : loop.start_s).catch(this.onTrouble);
  }

  /** One sound is fetched at a time: those that were wanted only meanwhile are never asked for. */
  #follow() {
    if (!this.isFollowing) this.following = this.#swapUntilWanted();
    return this.following;
  }

  async #swapUntilWanted() {
    this.isFollowing = true;
    try {
      while (this.playing && this.layer.sound.hash !== this.wanted.sound.hash) await this.#swapTo(this.wanted);
      this.layer?.fade(this.context, this.wanted.gain);
    } finally {
      this.isFollowing = false;
    }
  }

  /** Given up when the deck stops or the playhead is moved meanwhile. */
  async #swapTo({ sound, gain }) {
    const mine = this.order;
    const asked = performance.now();
    await this.#need(sound, this.position(this.context.currentTime + 0.05));
    if (mine !== this.order) return;
    const at = this.context.currentTime + 0.02;
    await this.#need(sound, this.position(at));
    if (mine !== this.order) return;
    const begin = Math.max(at, this.context.currentTime + 0.01);
    const old = this.layer;
    this.layer = new Layer(this, sound, gain, begin);
    this.#tick();
    old.end(begin);
    this.lastSwap = { hash: sound.hash, asked, scheduled: performance.now() };
  }

  #index(sound, position) {
    return Math.floor((position * sound.rate) / sound.chunk_frames + 1e-9);
  }

  async #need(sound, position) {
    const index = this.#index(sound, position);
    await this.#fetch(sound, index);
    const left = (index + 1) * (sound.chunk_frames / sound.rate) - position;
    if (left < END_S) await this.#fetch(sound, this.#index(sound, this.#after(position + left)));
  }

  #after(position) {
    return position >= this.loop.end_s - 1e-6 ? this.loop.start_s : position;
  }

  #fetch(sound, index) {
    const name = `${sound.hash}/${index}`;
    if (this.buffers.has(name)) return Promise.resolve(this.buffers.get(name));
    if (!this.fetching.has(name)) {
      const loaded = getFloats(`/sound/${name}`)
        .then((samples) => this.keep(sound, index, samples))
        .finally(() => this.fetching.delete(name));
      this.fetching.set(name, loaded);
    }
    return this.fetching.get(name);
  }

  /** Take several chunks, one after another. */
  keepAll(sound, indices, samples) {
    const size = 2 * sound.chunk_frames;
    indices.forEach((index, n) => this.keep(sound, index, samples.subarray(n * size, (n + 1) * size)));
  }

  /** Take a chunk: all left samples, then all right ones. */
  keep(sound, index, samples) {
    const name = `${sound.hash}/${index}`;
    const buffer = this.context.createBuffer(2, sound.chunk_frames, sound.rate);
    buffer.copyToChannel(samples.subarray(0, sound.chunk_frames), 0);
    buffer.copyToChannel(samples.subarray(sound.chunk_frames), 1);
    this.buffers.set(name, buffer);
    for (const old of this.buffers.keys()) {
      if (this.buffers.size <= MOST_BUFFERS) break;
      this.buffers.delete(old);
    }
    return buffer;
  }

  #tick() {
    const { layer, context } = this;
    if (!layer) return;
    const now = context.currentTime;
    if (layer.until < now) layer.until = now + 0.01;
    while (layer.until < now + AHEAD_S) {
      const position = this.position(layer.until);
      const index = this.#index(layer.sound, position);
      const buffer = this.buffers.get(`${layer.sound.hash}/${index}`);
      if (!buffer) break;
      const chunk_s = layer.sound.chunk_frames / layer.sound.rate;
      const offset = Math.max(0, position - index * chunk_s);
      const length = Math.min(chunk_s - offset, this.loop.end_s - position);
      this.#schedule(layer, buffer, offset, Math.max(length, 1e-4));
    }
    if (now > layer.begin + SETTLED_S) this.#prefetch(layer, PREFETCH_CHUNKS);
    else if (layer.until < now + SHORT_S) this.#prefetch(layer, 1);
  }

  #schedule(layer, buffer, offset, length) {
    const source = this.context.createBufferSource();
    source.buffer = buffer;
    source.connect(layer.out);
    source.onended = () => layer.sources.delete(source);
    layer.sources.add(source);
    source.start(layer.until, offset, length);
    layer.until += length;
  }

  #prefetch(layer, most) {
    const { sound } = layer;
    const chunk_s = sound.chunk_frames / sound.rate;
    const chunks = Math.min(most, Math.ceil((this.loop.end_s - this.loop.start_s) / chunk_s) + 1);
    let position = this.position(layer.until);
    for (let n = 0; n < chunks && this.fetching.size < 2; n++) {
      this.#fetch(sound, this.#index(sound, position)).catch(this.onTrouble);
      position += chunk_s;
      if (position >= this.loop.end_s) position = this.loop.start_s + (position - this.loop.end_s);
    }
  }
}
