// The frequency axis, and values as they are typed.
import assert from "node:assert/strict";
import { test } from "node:test";
import { axisWord, frequencyAxis, hasRoom, hzWord, nearest, within } from "../../pondel/web/static/js/axis.js";
import { typedHz, typedNumber } from "../../pondel/web/static/js/units.js";

const near = (one, other) => assert.ok(Math.abs(one - other) < 1e-9 * Math.max(1, Math.abs(other)), `${one} is not ${other}`);

test("three decades lie side by side, each as wide as the others", () => {
  const { share } = frequencyAxis(false);
  for (const [hz, at] of [[20, 0], [200, 1 / 3], [2000, 2 / 3], [20000, 1]]) near(share(hz), at);
});

test("spread, the lows take half of the width", () => {
  const { share } = frequencyAxis(true);
  for (const [hz, at] of [[20, 0], [Math.sqrt(20 * 250), 0.25], [250, 0.5], [Math.sqrt(250 * 20000), 0.75], [20000, 1]]) near(share(hz), at);
});

test("the way back leads to where one came from", () => {
  for (const spread of [false, true]) {
    const { share, hz } = frequencyAxis(spread);
    for (let one = 20; one <= 20000; one *= 1.07) near(hz(share(one)), one);
  }
});

test("frequencies are written as the trade writes them", () => {
  assert.deepEqual([20, 500, 1000, 20000].map(axisWord), ["20", "500", "1k", "20k"]);
  assert.deepEqual([88.4, 999, 1234, 12345].map(hzWord), ["88 Hz", "999 Hz", "1.23 kHz", "12.3 kHz"]);
  assert.equal(hasRoom(10000, (hz) => hz / 1000), false);
  assert.ok(hasRoom(10000, (hz) => hz / 100));
});

test("the nearest frequency is the nearest in octaves, within what can be heard", () => {
  assert.equal(nearest([100, 200, 400], 290), 2);
  assert.equal(nearest([100, 200, 400], 270), 1);
  assert.deepEqual([3, 440, 90000].map(within), [20, 440, 20000]);
});

test("typed frequencies are read with their unit", () => {
  for (const [text, hz] of [["80", 80], ["80 Hz", 80], ["1.2k", 1200], ["1,2 kHz", 1200], [" 440hz ", 440], [".5k", 500]]) assert.equal(typedHz(text), hz, text);
  for (const text of ["", "k", "12 dB", "1.2.3", "-80", "eighty"]) assert.ok(Number.isNaN(typedHz(text)), text);
  assert.equal(typedNumber("4,5"), 4.5);
  assert.ok(Number.isNaN(typedNumber(" ")));
});
