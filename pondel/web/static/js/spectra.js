// Two parts' average spectra over each other; hatched where one hides the other.
import { about, getInTurn } from "./api.js";
import { hzWord, nearest } from "./axis.js";
import { through, under } from "./curve.js";
import { densityOf, hatch } from "./hatch.js";
import { axisNow, draw, emptied, frequencyMarks, readout } from "./plots.js";
import { question } from "./questions.js";
import { player } from "./deck.js";
import { on } from "./state.js";

const LEFT = 38;
const RIGHT = 12;
const TOP = 8;
const BOTTOM = 22;
const SPAN_DB = 60;
const STRIP = 9;

/** What was asked for, and what of it is drawn: with *now*, the spectra at the playhead. */
let asked = null;
let data = null;
let cursor = null;
let drawn = -1;
/** It holds still while the picture moves. */
let loudest = 0;

const plot = () => document.querySelector('[data-plot="spectra"]');

const { now: load, soon } = question(
  async (signal) => {
    if (!plot()) return;
    asked = await getInTurn(about("spectra", { fold: document.getElementById("fold")?.value, how: document.getElementById("spectra-how")?.value }), signal);
    drawn = -1;
    const { leader, before, after } = asked.moving ?? asked;
    loudest = Math.max(...[leader, before, after].flat(2));
    data = asked.moving ? null : asked;
    if (asked.moving) follow();
    redraw();
  },
  (message) => (plot().textContent = message),
  350,
);

/** The step of the loop under the playhead becomes the picture. */
function follow() {
  if (!asked?.moving || !plot()) return;
  const { hz, hidden_hz, hidden_after, start_s, step_s, moving } = asked;
  const step = Math.min(moving.leader.length - 1, Math.max(0, Math.floor((player.position() - start_s) / step_s)));
  if (step === drawn) return;
  drawn = step;
  const quiet = hz.map(() => 0);
  const [leader, before, after] = [moving.leader, moving.before, moving.after].map((rows) => rows[step]);
  data = { hz, leader, before, after, hidden_hz, hidden_after, build_up_after: quiet, build_up_before: quiet };
  redraw();
}

function redraw() {
  const box = plot();
  if (!box || !data) return;
  const { width, height } = box.getBoundingClientRect();
  if (width < 50 || height < 50) return;
  const svg = emptied(box, { width, height }, { "aria-hidden": "true" });
  const { share } = axisNow();
  const top_db = Math.ceil((loudest + 3) / 6) * 6;
  const x = (hz) => LEFT + share(hz) * (width - LEFT - RIGHT);
  const y = (db) => TOP + (Math.min(SPAN_DB, Math.max(0, top_db - db)) / SPAN_DB) * (height - TOP - BOTTOM);
  const base = y(top_db - SPAN_DB);
  axes(svg, { x, y, top_db, base, width });
  const curveOf = (levels) => levels.map((db, i) => ({ x: x(data.hz[i]), y: y(db) }));
  const line = (levels) => `M${through(curveOf(levels))}`;
  const area = (levels) => under(curveOf(levels), base);
  const { leaderInk, yielderInk, leaderDash, yielderDash } = box.dataset;
  svg.append(draw("path", { d: area(data.after), class: `under ink-${yielderInk}` }));
  svg.append(draw("path", { d: area(data.leader), class: `under ink-${leaderInk}` }));
  hidden(svg, yielderInk, x, curveOf(data.leader), base);
  svg.append(draw("path", { d: line(data.before), class: `curve thin ink-${yielderInk}` }));
  svg.append(draw("path", { d: line(data.after), class: `curve ink-${yielderInk}`, "stroke-dasharray": yielderDash }));
  svg.append(draw("path", { d: line(data.leader), class: `curve ink-${leaderInk}`, "stroke-dasharray": leaderDash }));
  strip(svg, data.build_up_after, x, base - 2 * STRIP);
  strip(svg, data.build_up_before, x, base - STRIP, "pale");
  if (cursor != null) read(svg, box, x, base);
  else readout(box, null);
  if (!svg.isConnected) box.replaceChildren(svg);
}

function axes(svg, { x, y, top_db, base, width }) {
  frequencyMarks(svg, { x, top: TOP, base, words: base + 15 });
  for (let db = top_db; db >= top_db - SPAN_DB; db -= 12) {
    svg.append(draw("line", { x1: LEFT, x2: width - RIGHT, y1: y(db), y2: y(db), class: "grid-line" }));
    svg.append(draw("text", { x: LEFT - 6, y: y(db) + 4, class: "axis", "text-anchor": "end" }, String(db).replace("-", "−")));
  }
  svg.append(draw("text", { x: 0, y: base + 15, class: "axis" }, "dBFS"));
}

/** Where both build up over the mix, crossed the denser the more, in a strip of its own. */
function strip(svg, levels, x, top, look = "") {
  const group = draw("g", { class: `build-up ${look}` });
  for (let i = 0; i < levels.length - 1; i++) {
    if (!levels[i]) continue;
    const [from, to] = [x(data.hz[i]), x(data.hz[i + 1])];
    group.append(draw("rect", { x: from, y: top, width: to - from, height: STRIP - 1, class: "build-up-ground" }));
    const lines = levels[i] > 6 ? 3 : levels[i] > 3 ? 2 : 1;
    for (let k = 0; k < lines; k++) {
      const at = from + ((k + 0.5) / lines) * (to - from);
      group.append(draw("path", { d: `M${at - 3} ${top}l6 ${STRIP - 1}M${at + 3} ${top}l-6 ${STRIP - 1}` }));
    }
  }
  svg.append(group);
}

/** Hatch the leader's area in the yielder's ink, denser where more is hidden. */
function hidden(svg, ink, x, curve, base) {
  const edges = data.hidden_hz;
  edges.forEach((hz, i) => {
    const density = densityOf(data.hidden_after[i]);
    if (density < 0) return;
    const low = i ? Math.sqrt(hz * edges[i - 1]) : hz * 0.97;
    const high = i < edges.length - 1 ? Math.sqrt(hz * edges[i + 1]) : hz * 1.03;
    hatch(svg, curve, base, { from: x(Math.max(low, 20)), to: x(Math.min(high, 20000)), ink, density });
  });
}

function read(svg, box, x, base) {
  const hz = data.hz[cursor];
  svg.append(draw("line", { x1: x(hz), x2: x(hz), y1: TOP, y2: base, class: "cursor-line" }));
  const db = (v) => `${v.toFixed(0).replace("-", "−")} dB`;
  const { leaderName, yielderName } = box.dataset;
  const hidden = data.hidden_after[nearest(data.hidden_hz, hz)] * 100;
  readout(box, `${hzWord(hz)} · ${leaderName} ${db(data.leader[cursor])} · ${yielderName} ${db(data.after[cursor])} · ${hidden.toFixed(0)} % hidden${data.build_up_after[cursor] ? ` · both build up by ${db(data.build_up_after[cursor])}` : ""}`);
}

function point(event) {
  const box = plot();
  const { left, width } = box.getBoundingClientRect();
  const share = (event.clientX - left - LEFT) / (width - LEFT - RIGHT);
  if (!data || share < 0 || share > 1) return;
  cursor = nearest(data.hz, axisNow().hz(share));
  redraw();
}

function arrow(event) {
  const steps = { ArrowLeft: -2, ArrowRight: 2, PageDown: -24, PageUp: 24 };
  if (event.key === "Escape") cursor = null;
  else if (event.key in steps && data) cursor = Math.min(data.hz.length - 1, Math.max(0, (cursor ?? 48) + steps[event.key]));
  else return;
  event.preventDefault();
  redraw();
}

function wire() {
  const box = plot();
  asked = data = null;
  cursor = null;
  if (!box) return;
  box.addEventListener("pointermove", point);
  box.addEventListener("pointerleave", () => {
    cursor = null;
    redraw();
  });
  box.addEventListener("keydown", arrow);
  new ResizeObserver(redraw).observe(box);
  const fold = document.getElementById("fold");
  if (fold) fold.onchange = load;
  const how = document.getElementById("spectra-how");
  if (how) how.onchange = load;
  load();
}

export function start() {
  on("view", wire);
  on("playhead", follow);
  on("changed", soon);
  on("loop", soon);
  on("sheet", redraw);
  on("spread", redraw);
  on("look", load);
}
