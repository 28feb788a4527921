// A long list of pictures: those in view are drawn, the others when they come into view.

/** How far out of view a picture is drawn already, in its own list as on the page. */
const NEAR = { rootMargin: "200px 0px", scrollMargin: "200px 0px" };

/**
 * Pictures whose sizes are told by the browser, so that drawing one never waits for the layout of another.
 * @param {(place: Element, size: {width: number, height: number}) => void} paint
 * @param {() => void} resized after any of them has another size
 */
export function inView(paint, resized) {
  const sizes = new Map();
  const seen = new Set();
  const stale = new Set();
  const settle = (place) => {
    if (!stale.has(place) || !seen.has(place) || !sizes.has(place)) return;
    stale.delete(place);
    paint(place, sizes.get(place));
  };
  const measured = new ResizeObserver((entries) => {
    for (const { target, contentRect } of entries) {
      sizes.set(target, contentRect);
      stale.add(target);
      settle(target);
    }
    resized();
  });
  const met = new IntersectionObserver((entries) => {
    for (const { target, isIntersecting } of entries) {
      if (isIntersecting) seen.add(target);
      else seen.delete(target);
      settle(target);
    }
  }, NEAR);
  window.addEventListener("beforeprint", () => {
    for (const place of stale) paint(place, sizes.get(place));
    stale.clear();
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
    },
    /** The width of those that are shown, 0 before any is. */
    width: () => Math.max(0, ...[...sizes.values()].map(({ width }) => width)),
  };
}
