// One part as a ridge along the frequency axis, hatched where others hide it.
import { within } from "./axis.js";
import { through, under } from "./curve.js";
import { densityOf, hatch } from "./hatch.js";
import { axisNow, draw, frequencyMarks, zoneBand } from "./plots.js";

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
  const { hz } = told;
  const { share } = axisNow();
  const x = (at) => share(within(at)) * width;
  const base = height - 1;
  const y = (value) => base - value * (height - 5);
  frequencyMarks(svg, { x, top: 0, base: height, words: 0 });
  zones(svg, x, height, told);
  const curve = hz.map((at, i) => ({ x: x(at), y: y(lane.alone[i]) }));
  svg.append(draw("path", { d: under(curve, base), class: "under" }));
  hidden(svg, lane, curve, base, told);
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

/**
 * Runs of places with the same main hider and density, each hatched in the hider's ink and named by its tag.
 * @param {import("./curve.js").Point[]} curve
 */
function hidden(svg, lane, curve, base, { inkOf, tagOf }) {
  const densities = lane.hidden.map(densityOf);
  const mains = lane.main.map((main, i) => (densities[i] < 0 ? "" : main));
  const kinds = mains.map((main, i) => (main ? `${inkOf(main)} ${densities[i]}` : ""));
  for (const [from, to] of runs(kinds)) {
    hatch(svg, curve, base, { from: edge(curve, from), to: edge(curve, to), ink: inkOf(mains[from]), density: densities[from] });
  }
  for (const [from, to] of runs(mains)) {
    const at = tagAt(lane.alone, curve, from, to);
    if (at != null) svg.append(draw("text", { x: at, y: "90%", class: `hider ink-${inkOf(mains[from])}`, "text-anchor": "middle" }, tagOf(mains[from])));
  }
}

/** Where place `i - 1` ends and place `i` begins: midway, or at the ends of all. */
const edge = (curve, i) => (curve[Math.max(i - 1, 0)].x + curve[Math.min(i, curve.length - 1)].x) / 2;

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
  const [left, right] = [edge(curve, from), edge(curve, to)];
  if (right - left < TAG_PX) return null;
  let top = from;
  for (let i = from; i < to; i++) if (alone[i] > alone[top]) top = i;
  if (alone[top] < TAG_LEAST) return null;
  return Math.min(right - TAG_PX / 2, Math.max(left + TAG_PX / 2, curve[top].x));
}
