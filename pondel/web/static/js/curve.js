// Curves as points, and pieces of the area under them. Knows no page.

/** @typedef {{x: number, y: number}} Point */

/** @param {Point[]} points */
export const through = (points) => points.map(({ x, y }) => `${x.toFixed(1)} ${y.toFixed(1)}`).join("L");

/** The area between a curve and its base, as a path. @param {Point[]} curve @param {number} base */
export const under = (curve, base) => `M${curve[0].x.toFixed(1)} ${base}L${through(curve)}L${curve.at(-1).x.toFixed(1)} ${base}Z`;

/** What of a curve lies between two places, from the one to the other. @param {Point[]} curve @param {number} from @param {number} to */
export const between = (curve, from, to) => [at(curve, from), ...curve.filter(({ x }) => x > from && x < to), at(curve, to)];

/** The point of a curve at a place, on a line between its points; at its ends beyond them. @param {Point[]} curve @param {number} x */
function at(curve, x) {
  const after = curve.findIndex((point) => point.x >= x);
  if (after < 0) return curve.at(-1);
  if (after === 0) return curve[0];
  const [left, right] = [curve[after - 1], curve[after]];
  return { x, y: left.y + ((x - left.x) / (right.x - left.x)) * (right.y - left.y) };
}
