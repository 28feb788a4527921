// One part as a ridge along the frequency axis, hatched where others hide it.
import { within } from "./axis.js";
import { HATCH_LEAST, axisNow, draw, frequencyMarks, hatchPatterns, zoneBand } from "./plots.js";

const DASHES = ["", "7 4", "2 3", "9 3 2 3"];
const TAG_PX = 24;
/** From this height on a ridge has room for the tag of who hides it. */
const TAG_LEAST = 0.12;

/** @typedef {{id: string, alone: number[], hidden: number[], main: string[]}} Lane */
/** @typedef {{width: number, height: number}} Size */
/** @typedef {{low_hz: number, high_hz: number}} Zone */

/**
 * Draw a ridge into `svg`: `hz` are its places, `zone` the zone in view, `kept` those in which it leads,
 * `dash` its number among the parts, and `inkOf` and `tagOf` tell those that hide it.
 * @param {Element} svg @param {Lane} lane @param {Size} size
 * @param {{hz: number[], zone: ?Zone, kept: Zone[], dash: number, inkOf: (id: string) => number, tagOf: (id: string) => string}} told
 */
export function ridge(svg, lane, { width, height }, told) {
  hatchPatterns();
  const { hz } = told;
  const { share } = axisNow();
  const x = (at) => share(within(at)) * width;
  const base = height - 1;
  const y = (value) => base - value * (height - 5);
  frequencyMarks(svg, { x, top: 0, base: height, words: 0 });
  zones(svg, x, height, told);
  const curve = hz.map((at, i) => ({ x: x(at), y: y(lane.alone[i]) }));
  svg.append(draw("path", { d: under(curve, base), class: "under" }));
  hatch(svg, lane, curve, base, told);
  svg.append(draw("path", { d: `M${through(curve)}`, class: "curve", "stroke-width": 1.6, "stroke-dasharray": DASHES[told.dash % DASHES.length] }));
  svg.append(draw("line", { x1: 0, x2: width, y1: base, y2: base, class: "grid-line strong" }));
}

/** The zone in view as a marked band; those in which this part leads as a line at the foot. */
function zones(svg, x, height, { zone, kept }) {
  if (zone) zoneBand(svg, { low: x(zone.low_hz), high: x(zone.high_hz), top: 0, base: height });
  for (const one of kept) {
    svg.append(draw("line", { x1: x(one.low_hz), x2: x(one.high_hz), y1: height - 2, y2: height - 2, stroke: "var(--c)", "stroke-width": 4 }));
  }
}

/** @typedef {{x: number, y: number}} Point */

/** @param {Point[]} points */
const through = (points) => points.map(({ x, y }) => `${x.toFixed(1)} ${y.toFixed(1)}`).join("L");

/** The area between a curve and its base. @param {Point[]} curve @param {number} base */
const under = (curve, base) => `M${curve[0].x.toFixed(1)} ${base}L${through(curve)}L${curve.at(-1).x.toFixed(1)} ${base}Z`;

/**
 * Runs of places with the same main hider and density, each the piece of the area there in the hider's ink:
 * a piece is filled as it is, where hatching clipped by the area is drawn twice.
 * @param {Point[]} curve
 */
function hatch(svg, lane, curve, base, { inkOf, tagOf }) {
  const levels = lane.hidden.map((share) => HATCH_LEAST.findIndex((least) => share >= least));
  const mains = lane.main.map((main, i) => (levels[i] < 0 ? "" : main));
  const kinds = mains.map((main, i) => (main ? `${inkOf(main)}-${levels[i]}` : ""));
  for (const [from, to] of runs(kinds)) {
    const piece = [edge(curve, from), ...curve.slice(from, to), edge(curve, to)];
    svg.append(draw("path", { d: under(piece, base), fill: `url(#ink-hatch-${kinds[from]})` }));
  }
  for (const [from, to] of runs(mains)) {
    const at = tagAt(lane.alone, curve, from, to);
    if (at != null) svg.append(draw("text", { x: at, y: "90%", class: `hider ink-${inkOf(mains[from])}`, "text-anchor": "middle" }, tagOf(mains[from])));
  }
}

/** Where the curve leaves place `i - 1` for place `i`: midway, or at its ends. @param {Point[]} curve @param {number} i */
function edge(curve, i) {
  const [a, b] = [curve[Math.max(i - 1, 0)], curve[Math.min(i, curve.length - 1)]];
  return { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 };
}

/** From where to where each run of one and the same value goes, without those of nothing. */
function runs(values) {
  const found = [];
  let first = 0;
  for (let i = 1; i <= values.length; i++) {
    if (values[i] === values[first]) continue;
    if (values[first]) found.push([first, i]);
    first = i;
  }
  return found;
}

/** Where the tag of who hides in a run stands: where the ridge is highest there; null without room. */
function tagAt(alone, curve, from, to) {
  const [left, right] = [edge(curve, from).x, edge(curve, to).x];
  if (right - left < TAG_PX) return null;
  let top = from;
  for (let i = from; i < to; i++) if (alone[i] > alone[top]) top = i;
  if (alone[top] < TAG_LEAST) return null;
  return Math.min(right - TAG_PX / 2, Math.max(left + TAG_PX / 2, curve[top].x));
}
