// Where beats and bars lie: in stretches of one tempo and signature, as the server told them.

import { state } from "./state.js";

/** @typedef {{at_s: number, beat_s: number, beats_per_bar: number, beat_note: number, bar: number}} Stretch */

/** @returns {Stretch} */
const stretchAt = (s) => state.facts.beats.findLast((one) => one.at_s <= s + 1e-6) ?? state.facts.beats[0];
const barS = (one) => one.beat_s * one.beats_per_bar;

/** Seconds of one beat at a moment; one second while the tempo is not known. */
export const beat = (s) => stretchAt(s).beat_s;

/** Seconds of one bar at a moment. */
export const bar = (s) => barS(stretchAt(s));

/** The bar at a moment, the first being 1, and the share of it that has passed. */
export function barAt(s) {
  const one = stretchAt(s);
  return one.bar + (s - one.at_s) / barS(one);
}

/** When a bar begins. */
export function secondOfBar(number) {
  const one = state.facts.beats.findLast((stretch) => stretch.bar <= number + 1e-6) ?? state.facts.beats[0];
  return one.at_s + (number - one.bar) * barS(one);
}

/** The moment of the beat nearest to `s`, some beats on. */
export function nearestBeat(s, further = 0) {
  const one = stretchAt(s);
  const passed = (one.bar % 1) * one.beats_per_bar;
  const beats = passed + (s - one.at_s) / one.beat_s;
  return Math.max(0, one.at_s + (Math.round(beats) + further - passed) * one.beat_s);
}

/** Bars that begin between two moments, each with the moments of its further beats. */
export function barLines(from_s, to_s) {
  const lines = [];
  for (let n = Math.max(1, Math.ceil(barAt(from_s) - 1e-4)); ; n++) {
    const s = secondOfBar(n);
    if (s > to_s + 1e-6) return lines;
    const { beat_s, beats_per_bar } = stretchAt(s);
    const next_s = Math.min(secondOfBar(n + 1), to_s);
    const beats = Array.from({ length: beats_per_bar - 1 }, (_, k) => s + (k + 1) * beat_s).filter((at) => at < next_s - 1e-6);
    lines.push({ bar: n, s, beats });
  }
}

/** What stands at a bar line: its number, or the time while the tempo is not known. */
export function barWord(number) {
  const s = secondOfBar(number);
  return state.facts.tempo_known ? `bar ${number}` : `${Math.floor(s / 60)}:${String(Math.round(s % 60)).padStart(2, "0")}`;
}

/** A moment as bar, beat and sixteenth of the beat. */
export function barsBeats(s) {
  const number = barAt(s + 1e-3);
  const beats = (number % 1) * stretchAt(s + 1e-3).beats_per_bar;
  return `${Math.floor(number)}.${Math.floor(beats) + 1}.${Math.floor((beats % 1) * 4) + 1}`;
}

const NOTES = ["1/64", "1/32", "1/16", "1/8", "1/4", "1/2", "1/1"];
/** @type {[string, number][]} */
const KINDS = [["", 1], ["t", 2 / 3], ["d", 1.5]];

/** The note value that a time is within 4 % of, at the tempo where the loop begins; else nothing. */
export function noteNear(seconds) {
  if (!state.facts?.tempo_known || !(seconds > 0)) return "";
  const { beat_s, beat_note } = stretchAt(state.loop.start_s);
  const quarter = (beat_s * beat_note) / 4;
  for (const [kind, longer] of KINDS) {
    const found = NOTES.find((note) => Math.abs(seconds / ((4 / Number(note.slice(2))) * longer * quarter) - 1) < 0.04);
    // Note values hang on the tempo: one that nobody confirmed is marked.
    if (found) return `${found}${kind}${state.facts.tempo_estimated ? "?" : ""}`;
  }
  return "";
}
