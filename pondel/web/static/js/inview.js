// A long list of pictures: those in view are drawn at once, the others when the page has nothing else to do, or when
// they come into view.
import { atRest } from "./questions.js";

/** How far out of view a picture is drawn already, in its own list as on the page. */
const NEAR = { rootMargin: "200px 0px", scrollMargin: "200px 0px" };
const REST_MS = 300;
/** What is left of a frame, at least, for one more picture. */
const LEAST_MS = 4;
const FRAME_MS = 16;

/** @typedef {(left: {timeRemaining: () => number}) => void} Work */

/**
 * Work when the page has nothing else to do, with what is left of that; a moment later where a browser cannot tell.
 * @type {(work: Work) => void}
 */
const whenIdle =
  window.requestIdleCallback ??
  ((work) => {
    setTimeout(() => {
      const begun = performance.now();
      work({ timeRemaining: () => FRAME_MS - (performance.now() - begun) });
    }, FRAME_MS);
  });

/**
 * Pictures whose sizes are told by the browser, so that drawing one never waits for the layout of another.
 * @param {(place: Element, size: {width: number, height: number}) => void} paint
 * @param {() => void} resized after any of them has another size
 */
export function inView(paint, resized) {
  const sizes = new Map();
  const seen = new Set();
  const stale = new Set();
  const renew = (place) => {
    stale.delete(place);
    paint(place, sizes.get(place));
  };
  const settle = (place) => stale.has(place) && seen.has(place) && sizes.has(place) && renew(place);
  // One that is drawn as it comes into view has all that lies around it painted once more.
  let isPromised = false;
  const promise = () => {
    if (isPromised) return;
    isPromised = true;
    whenIdle(ahead);
  };
  /** @type {Work} */
  const ahead = (left) => {
    isPromised = false;
    for (const place of stale) {
      if (left.timeRemaining() < LEAST_MS) return promise();
      renew(place);
    }
  };
  const rest = atRest(promise, REST_MS);
  const measured = new ResizeObserver((entries) => {
    for (const { target, contentRect } of entries) {
      sizes.set(target, contentRect);
      stale.add(target);
      settle(target);
    }
    resized();
    rest();
  });
  const met = new IntersectionObserver((entries) => {
    for (const { target, isIntersecting } of entries) {
      if (isIntersecting) seen.add(target);
      else seen.delete(target);
      settle(target);
    }
  }, NEAR);
  window.addEventListener("beforeprint", () => {
    for (const place of stale) renew(place);
  });
  return {
    /** Look after these from now on, and after no others. */
    watch(places) {
      for (const observer of [measured, met]) observer.disconnect();
      for (const kept of [sizes, seen, stale]) kept.clear();
      for (const place of places) for (const observer of [measured, met]) observer.observe(place);
    },
    /** Draw all anew: at once what is in view. */
    draw() {
      for (const place of sizes.keys()) {
        stale.add(place);
        settle(place);
      }
      rest();
    },
    /** The width of those that are shown, 0 before any is. */
    width: () => Math.max(0, ...[...sizes.values()].map(({ width }) => width)),
  };
}
