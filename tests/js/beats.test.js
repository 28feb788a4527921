// Beats and bars over a map: 120 bpm in 4/4, from 8 s on 90 in 3/4, from 20 s on 120 in 7/8.
import assert from "node:assert/strict";
import { test } from "node:test";
import { barAt, barLines, barsBeats, beat, nearestBeat, noteNear, secondOfBar } from "../../pondel/web/static/js/beats.js";
import { state } from "../../pondel/web/static/js/state.js";

const near = (one, other) => assert.ok(Math.abs(one - other) < 1e-9, `${one} is not ${other}`);
state.facts = /** @type {any} */ ({
  tempo_known: true,
  beats: [
    { at_s: 0, beat_s: 0.5, beats_per_bar: 4, beat_note: 4, bar: 1 },
    { at_s: 8, beat_s: 2 / 3, beats_per_bar: 3, beat_note: 4, bar: 5 },
    { at_s: 20, beat_s: 0.25, beats_per_bar: 7, beat_note: 8, bar: 11 },
  ],
});

test("bars are found and found again", () => {
  for (const [s, bar] of [[0, 1], [7, 4.5], [8, 5], [10, 6], [20, 11], [21.75, 12]]) {
    near(barAt(s), bar);
    near(secondOfBar(bar), s);
  }
});

test("a beat is as long as it is there, and the nearest one is found on either side", () => {
  near(beat(7.9), 0.5);
  near(beat(8), 2 / 3);
  near(nearestBeat(7.2), 7);
  near(nearestBeat(8.6), 8 + 2 / 3);
  near(nearestBeat(8.6, 1), 8 + 4 / 3);
  near(nearestBeat(0, -1), 0);
});

test("lines of bars carry their beats, within what is shown", () => {
  const lines = barLines(6, 12);
  assert.deepEqual(lines.map((line) => line.bar), [4, 5, 6, 7]);
  assert.equal(lines[0].beats.length, 3);
  assert.equal(lines[1].beats.length, 2);
  assert.deepEqual(lines[3].beats, []);
});

test("a moment reads as bar, beat and sixteenth", () => {
  assert.equal(barsBeats(0), "1.1.1");
  assert.equal(barsBeats(7.999), "5.1.1");
  assert.equal(barsBeats(9.4), "5.3.1");
  assert.equal(barsBeats(20.25), "11.2.1");
});

test("a time is named by the note it is, at the tempo where the loop begins", () => {
  state.loop = { start_s: 0, end_s: 4 };
  for (const [seconds, note] of [[0.25, "1/8"], [0.126, "1/16"], [0.375, "1/8d"], [1 / 6, "1/8t"], [0.3, ""], [0, ""]]) assert.equal(noteNear(seconds), note);
  state.loop = { start_s: 20, end_s: 22 };
  assert.equal(noteNear(0.25), "1/8");
});
