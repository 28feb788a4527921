// What belongs together as one step of undo.

/** Steps by key on one control that follow each other this quickly are one change. */
const TOGETHER_MS = 1500;
let count = 0;
let last = { id: "", at: -TOGETHER_MS, gesture: "" };

/** A name that no other gesture has. @param {string} what */
export const freshGesture = (what) => `${what}-${Date.now()}-${++count}`;

/**
 * The gesture of a step by key on a control: that of the last step, if it was on the same control a moment
 * ago, whatever was drawn anew meanwhile. The moment begins when the last step was answered, so that a server
 * that takes its time does not part what the hand did in one go. @param {string} id
 */
export function keyGesture(id) {
  const at = performance.now();
  const goesOn = id === last.id && at - last.at < TOGETHER_MS;
  last = { id, at, gesture: goesOn ? last.gesture : freshGesture("keys") };
  return last.gesture;
}

/** A change of this gesture was answered. @param {?string} gesture */
export function answered(gesture) {
  if (gesture === last.gesture) last.at = performance.now();
}
