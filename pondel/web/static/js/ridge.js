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
 * The drawing of a ridge: `hz` are its places, `zone` the zone in view, `kept` those in which it leads,
 * `dash` its number among the parts, and `inkOf` and `tagOf` tell those that hide it.
 * @param {Lane} lane @param {Size} size
 * @param {{hz: number[], zone: ?Zone, kept: Zone[], dash: number, inkOf: (id: string) => number, tagOf: (id: string) => string}} told
 */
export function ridge(lane, { width, height }, told) {
  hatchPatterns();
  const { hz } = told;
  const { share } = axisNow();
  const x = (at) => share(within(at)) * width;
  const base = height - 1;
  const y = (value) => base - value * (height - 5);
  const svg = draw("svg", { viewBox: `0 0 ${width} ${height}`, "aria-hidden": "true" });
  frequencyMarks(svg, { x, top: 0, base: height, words: 0 });
  zones(svg, x, height, told);
  const points = hz.map((at, i) => `${x(at).toFixed(1)} ${y(lane.alone[i]).toFixed(1)}`);
  const area = `M${x(hz[0])} ${base}L${points.join("L")}L${x(hz.at(-1))} ${base}Z`;
  svg.append(draw("path", { d: area, class: "under" }));
  hatch(svg, lane, x, area, told);
  svg.append(draw("path", { d: `M${points.join("L")}`, class: "curve", "stroke-width": 1.6, "stroke-dasharray": DASHES[told.dash % DASHES.length] }));
  svg.append(draw("line", { x1: 0, x2: width, y1: base, y2: base, class: "grid-line strong" }));
  return svg;
}

/** The zone in view as a marked band; those in which this part leads as a line at the foot. */
function zones(svg, x, height, { zone, kept }) {
  if (zone) zoneBand(svg, { low: x(zone.low_hz), high: x(zone.high_hz), top: 0, base: height });
  for (const one of kept) {
    svg.append(draw("line", { x1: x(one.low_hz), x2: x(one.high_hz), y1: height - 2, y2: height - 2, stroke: "var(--c)", "stroke-width": 4 }));
  }
}

/** Runs of places with the same main hider and density, each hatched in the hider's ink. */
function hatch(svg, lane, x, area, { hz, inkOf, tagOf }) {
  const id = `clip-${lane.id}`;
  const clip = draw("clipPath", { id });
  clip.append(draw("path", { d: area }));
  const defs = draw("defs");
  defs.append(clip);
  const group = draw("g", { "clip-path": `url(#${CSS.escape(id)})` });
  const levels = lane.hidden.map((share) => HATCH_LEAST.findIndex((least) => share >= least));
  const mains = lane.main.map((main, i) => (levels[i] < 0 ? "" : main));
  const kinds = mains.map((main, i) => (main ? `${inkOf(main)}-${levels[i]}` : ""));
  const edge = (i) => (i === 0 ? 20 : i < hz.length ? Math.sqrt(hz[i] * hz[i - 1]) : 20000);
  for (const [from, to] of runs(kinds)) {
    group.append(draw("rect", { x: x(edge(from)), width: Math.max(0, x(edge(to)) - x(edge(from))), y: 0, height: "100%", fill: `url(#ink-hatch-${kinds[from]})` }));
  }
  svg.append(defs, group);
  for (const [from, to] of runs(mains)) {
    const at = tagAt(lane.alone, from, to, (i) => x(hz[i]), x(edge(from)), x(edge(to)));
    if (at != null) svg.append(draw("text", { x: at, y: "90%", class: `hider ink-${inkOf(mains[from])}`, "text-anchor": "middle" }, tagOf(mains[from])));
  }
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
function tagAt(alone, from, to, x, left, right) {
  if (right - left < TAG_PX) return null;
  let top = from;
  for (let i = from; i < to; i++) if (alone[i] > alone[top]) top = i;
  if (alone[top] < TAG_LEAST) return null;
  return Math.min(right - TAG_PX / 2, Math.max(left + TAG_PX / 2, x(top)));
}
