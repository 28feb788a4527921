// The gain of a move: factors multiply, bands of one factor lie side by side.
import assert from "node:assert/strict";
import { test } from "node:test";
import { gainOf } from "../../pondel/web/static/js/gain.js";

const flat = (value) => ({ re: [value, value], im: [0, 0] });
const band = (trace, more = {}) => ({ trace, full_db: -12, rest_db: 0, curve: [], from: 0, re: [1, 1], im: [0, 0], ...more });
const shape = (factors, wet = 1) => ({ hz: [100, 1000], factors, wet });
const near = (found, wanted) => found.forEach((db, i) => assert.ok(Math.abs(db - wanted[i]) < 1e-9, `${found} is not ${wanted}`));

test("two bells of -12 dB at one place draw -24", () => {
  const one = { still: null, bands: [band("m/0")] };
  near(gainOf(shape([one, { still: null, bands: [band("m/1")] }]), () => -12), [-24, -24]);
  near(gainOf(shape([one]), () => 0), [0, 0]);
});

test("bands of one factor lie side by side", () => {
  const split = { still: flat(1), bands: [band("low", { re: [1, 0], im: [0, 0] }), band("high", { re: [1], im: [0], from: 1 })] };
  near(gainOf(shape([split]), (trace) => (trace === "low" ? -6 : -3)), [-6, -3]);
});

test("a curve says how much of a weight is added on the way to the full range", () => {
  const bent = { still: null, bands: [band("m", { curve: [0, -0.4, -0.5] })] };
  near(gainOf(shape([bent]), () => -12), [20 * Math.log10(0.5), 20 * Math.log10(0.5)]);
  near(gainOf(shape([bent]), () => -3), [20 * Math.log10(0.8), 20 * Math.log10(0.8)]);
  near(gainOf(shape([bent]), () => -40), [20 * Math.log10(0.5), 20 * Math.log10(0.5)]);
  near(gainOf(shape([bent]), () => 0), [0, 0]);
});

test("a gain that rests elsewhere is its trace all the same", () => {
  const rest = 10 ** (6 / 20);
  const made = { still: { re: [rest, rest], im: [0, 0] }, bands: [band("m", { rest_db: 6 })] };
  near(gainOf(shape([made]), () => 6), [6, 6]);
  near(gainOf(shape([made]), () => -4), [-4, -4]);
});

test("what goes by is added, and turned phases cancel", () => {
  near(gainOf(shape([{ still: flat(0), bands: [] }], 0.5), () => 0), [20 * Math.log10(0.5), 20 * Math.log10(0.5)]);
  near(gainOf(shape([{ still: { re: [-1, 0], im: [0, 1] }, bands: [] }], 0.5), () => 0), [-80, 20 * Math.log10(Math.SQRT1_2)]);
});
