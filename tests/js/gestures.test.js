// Which steps are one step of undo.
import assert from "node:assert/strict";
import { mock, test } from "node:test";
import { answered, keyGesture } from "../../pondel/web/static/js/gestures.js";

let now_ms = 0;
mock.method(performance, "now", () => now_ms);

test("steps by key a moment apart on one control are one gesture, on two controls they are not", () => {
  const first = keyGesture("ratio");
  now_ms += 1000;
  assert.equal(keyGesture("ratio"), first);
  assert.notEqual(keyGesture("knee"), first);
  now_ms += 2000;
  assert.notEqual(keyGesture("ratio"), first);
});

test("the moment between two steps begins when the first was answered", () => {
  const first = keyGesture("mix");
  now_ms += 4000;
  answered(first);
  now_ms += 1000;
  assert.equal(keyGesture("mix"), first);
  now_ms += 2000;
  answered("of an older one");
  assert.notEqual(keyGesture("mix"), first);
});
