// Hatching: what is hidden of an area, in the ink of what hides it, the denser the more.
import { between, under } from "./curve.js";
import { draw } from "./plots.js";

/** From which hidden share on lines are drawn, the densest first, and how far apart they are. */
const LEAST = [0.7, 0.45, 0.2];
const GAPS = [4, 7, 12];
const INKS = 8;

/** Each ink is hatched at an angle of its own, those beside each other furthest apart. */
const ANGLES = [-45, 45, 0, 90, -20, 70, -70, 20];

/** How densely a hidden share is hatched, 0 the densest; -1 not at all. @param {number} share */
export const densityOf = (share) => LEAST.findIndex((least) => share >= least);

/**
 * Hatch the area under a curve from one place to another in an ink. It is a shape of its own: hatching that the
 * area clips is painted twice.
 * @param {Element} svg @param {import("./curve.js").Point[]} curve @param {number} base
 * @param {{from: number, to: number, ink: number | string, density: number}} piece
 */
export function hatch(svg, curve, base, { from, to, ink, density }) {
  patterns();
  svg.append(draw("path", { d: under(between(curve, from, to), base), fill: `url(#ink-hatch-${ink}-${density})` }));
}

/** Every ink in every density, once for the page. */
function patterns() {
  if (document.getElementById("ink-hatches")) return;
  const svg = draw("svg", { id: "ink-hatches", width: 0, height: 0, "aria-hidden": "true", class: "absolute" });
  const defs = draw("defs");
  for (let ink = 1; ink <= INKS; ink++) {
    GAPS.forEach((gap, density) => {
      const pattern = draw("pattern", { id: `ink-hatch-${ink}-${density}`, width: gap, height: gap, patternUnits: "userSpaceOnUse", patternTransform: `rotate(${ANGLES[ink - 1]})`, class: `ink-${ink}` });
      pattern.append(draw("line", { x1: 0, x2: gap, y1: 0, y2: 0, stroke: "var(--c)", "stroke-width": 1.7 }));
      defs.append(pattern);
    });
  }
  svg.append(defs);
  document.body.append(svg);
}
