import assert from "node:assert/strict";
import { test } from "node:test";
import { between, under } from "../../pondel/web/static/js/curve.js";

const curve = [{ x: 0, y: 10 }, { x: 10, y: 0 }, { x: 20, y: 10 }];

test("a piece of a curve begins and ends on the lines between its points", () => {
  assert.deepEqual(between(curve, 5, 12.5), [{ x: 5, y: 5 }, { x: 10, y: 0 }, { x: 12.5, y: 2.5 }]);
  assert.deepEqual(between(curve, 10, 20), [{ x: 10, y: 0 }, { x: 20, y: 10 }]);
});

test("a piece that reaches beyond a curve ends where the curve does", () => {
  assert.deepEqual(between(curve, -5, 25), [curve[0], ...curve, curve[2]]);
});

test("the area of a piece stands on the base", () => {
  assert.equal(under(between(curve, 5, 15), 10), "M5.0 10L5.0 5.0L10.0 0.0L15.0 5.0L15.0 10Z");
});
