// One hit, averaged: leader, part before and after, and the gain with handles for attack, hold, release.
import { about, getInTurn } from "./api.js";
import { through, under } from "./curve.js";
import { draw, emptied } from "./plots.js";
import { handle } from "./handles.js";
import { settleFocus } from "./keep.js";
import { question } from "./questions.js";
import { on, state } from "./state.js";

const LEFT = 40;
const RIGHT = 10;
const FOOT = 18;
const LEVEL_SPAN_DB = 48;
const NOTES = [{ beats: 0.25, name: "1/16" }, { beats: 0.5, name: "1/8" }, { beats: 1, name: "1/4" }];

let data = null;

const plot = () => document.querySelector('[data-plot="hit"]');

const { now: load, soon } = question(
  async (signal) => {
    const box = plot();
    const { part, move } = state.view;
    if (!box || box.hidden || !move) return;
    data = await getInTurn(about("moves/hit", { part, move, item: state.view.item }), signal);
    const line = document.getElementById("hit-line");
    if (line) line.textContent = data.leader ? `${data.hits} hits; grey: their spread` : "no hit lies whole inside the loop";
    redraw();
  },
  (message) => plot() && (plot().textContent = message),
);

function redraw() {
  const box = plot();
  if (!box || !data) return;
  const { width, height } = box.getBoundingClientRect();
  if (width < 80 || height < 60) return;
  const focused = document.activeElement?.closest?.(".handle")?.id;
  const svg = emptied(box, { width, height });
  const upper = (height - FOOT) * 0.52;
  const x = (ms) => LEFT + ((ms + data.before_s * 1000) / ((data.before_s + data.after_s) * 1000)) * (width - LEFT - RIGHT);
  const msAt = (clientX) => ((clientX - box.getBoundingClientRect().left - LEFT) / (width - LEFT - RIGHT)) * (data.before_s + data.after_s) * 1000 - data.before_s * 1000;
  const g = { svg, width, height, upper, x, msAt, lower: [upper + 8, height - FOOT] };
  times(g);
  if (data.leader) envelopes(g, box);
  if (data.gain) gain(g);
  if (!svg.isConnected) box.replaceChildren(svg);
  if (focused) svg.querySelector(`#${CSS.escape(focused)}`)?.focus();
  settleFocus();
}

function times(g) {
  const span = (data.before_s + data.after_s) * 1000;
  const step = span > 900 ? 200 : span > 400 ? 100 : 50;
  for (let ms = 0; ms <= data.after_s * 1000 + 1; ms += step) {
    g.svg.append(draw("line", { x1: g.x(ms), x2: g.x(ms), y1: 0, y2: g.height - FOOT, class: `grid-line${ms === 0 ? " strong" : ""}` }));
    const last = ms + step > data.after_s * 1000;
    g.svg.append(draw("text", { x: g.x(ms), y: g.height - 4, class: "axis", "text-anchor": "middle" }, last ? `${ms} ms` : String(ms)));
  }
  for (const { beats, name } of data.beat_s ? NOTES : []) {
    const ms = beats * data.beat_s * 1000;
    if (ms > data.after_s * 1000) continue;
    g.svg.append(draw("line", { x1: g.x(ms), x2: g.x(ms), y1: 0, y2: g.height - FOOT, class: "cursor-line" }));
    g.svg.append(draw("text", { x: g.x(ms) - 3, y: 10, class: "axis", "text-anchor": "end" }, name));
  }
}

function envelopes(g, box) {
  const { leaderInk, partInk, leaderTag, partTag } = box.dataset;
  const top = Math.max(...data.leader.mean, ...data.before.mean) + 3;
  const y = (db) => 4 + (Math.min(LEVEL_SPAN_DB, Math.max(0, top - db)) / LEVEL_SPAN_DB) * (g.upper - 8);
  const at = (i) => g.x((i * data.step_s - data.before_s) * 1000);
  const curveOf = (values) => values.map((db, i) => ({ x: at(i), y: y(db) }));
  const line = (values) => `M${through(curveOf(values))}`;
  const area = (values) => under(curveOf(values), g.upper);
  g.svg.append(draw("path", { d: area(data.leader.mean), class: `under ink-${leaderInk}`, opacity: 0.2 }));
  g.svg.append(draw("path", { d: area(data.after.mean), class: `under ink-${partInk}`, opacity: 0.2 }));
  g.svg.append(draw("path", { d: line(data.leader.mean), class: `curve ink-${leaderInk}` }));
  g.svg.append(draw("path", { d: line(data.before.mean), class: `curve thin ink-${partInk}` }));
  g.svg.append(draw("path", { d: line(data.after.mean), class: `curve ink-${partInk}`, "stroke-dasharray": "6 3" }));
  g.svg.append(draw("text", { x: LEFT - 5, y: 9, class: "axis", "text-anchor": "end" }, "dBFS"));
  for (let db = Math.floor(top / 12) * 12; db > top - LEVEL_SPAN_DB; db -= 12) {
    if (y(db) < 16) continue;
    g.svg.append(draw("text", { x: LEFT - 5, y: y(db) + 4, class: "axis", "text-anchor": "end" }, String(db).replace("-", "−")));
  }
  // The tags stand at the middle of the picture, the louder part's above.
  const middle = Math.floor(data.leader.mean.length * 0.62);
  const [one, other] = [y(data.leader.mean[middle]), y(data.after.mean[middle])];
  const above = one <= other;
  g.svg.append(draw("text", { x: at(middle), y: one + (above ? -5 : 14), class: `axis ink-${leaderInk} inked` }, leaderTag));
  g.svg.append(draw("text", { x: at(middle), y: other + (above ? 14 : -5), class: `axis ink-${partInk} inked` }, partTag));
}

function gain(g) {
  const deepest = Math.min(-6, Math.floor(Math.min(...data.gain.low) / 6) * 6);
  const highest = Math.max(0, Math.ceil((Math.max(...data.gain.high) - 0.5) / 6) * 6);
  const [top, foot] = g.lower;
  const y = (db) => top + ((highest - db) / (highest - deepest)) * (foot - top - 4);
  const at = (i) => g.x((i * data.trace_step_s - data.before_s) * 1000);
  for (let db = highest; db >= deepest; db -= 6) {
    g.svg.append(draw("line", { x1: LEFT, x2: g.width - RIGHT, y1: y(db), y2: y(db), class: `grid-line${db === 0 ? " strong" : ""}` }));
    g.svg.append(draw("text", { x: LEFT - 5, y: y(db) + 4, class: "axis", "text-anchor": "end" }, db === 0 ? "0 dB" : String(db).replace("-", "−")));
  }
  const curveOf = (values) => values.map((db, i) => ({ x: at(i), y: y(db) }));
  const spread = [...curveOf(data.gain.high), ...curveOf(data.gain.low).reverse()];
  g.svg.append(draw("path", { d: `M${through(spread)}Z`, class: "spread" }));
  g.svg.append(draw("path", { d: `M${through(curveOf(data.gain.mean))}`, class: "gain-now" }));
  g.svg.append(draw("text", { x: g.width - RIGHT - 4, y: foot - 6, class: "axis", "text-anchor": "end" }, data.gain_is));
  const value = (ms) => data.gain.mean[Math.min(data.gain.mean.length - 1, Math.max(0, Math.round((ms / 1000 + data.before_s) / data.trace_step_s)))];
  timeHandles(g, (ms) => y(value(ms)));
  points(g, y);
}

const step = (value, key, event, floor) => {
  const factor = event.shiftKey ? 1.01 : 1.06;
  const moves = { ArrowRight: factor, ArrowUp: factor, ArrowLeft: 1 / factor, ArrowDown: 1 / factor, PageUp: 1.5, PageDown: 1 / 1.5 };
  return key in moves ? Math.max(floor, value * moves[key]) : null;
};

/** The times of the move one after another: each is drawn where it ends. */
function timeHandles(g, y) {
  for (const { label, field, value_ms, least_ms, from_ms } of data.times) {
    const put = (ms) => ({ [field]: Number(Math.max(least_ms, ms).toFixed(ms < 10 ? 2 : 0)) });
    const ends = Math.min(from_ms + value_ms, data.after_s * 1000);
    handle(g.svg, {
      x: g.x(ends),
      y: y(ends),
      id: `hit-${field}`,
      label,
      words: `${value_ms.toFixed(value_ms < 10 ? 1 : 0)} ms`,
      range: [value_ms, least_ms, Math.max(value_ms, data.after_s * 1000)],
      moved: (event) => put(g.msAt(event.clientX) - from_ms),
      stepped: (key, event) => {
        const next = step(Math.max(value_ms, least_ms), key, event, least_ms);
        return next == null ? null : put(next);
      },
      back: put(value_ms),
    });
  }
}

/** The points of a drawn curve: sideways is when, up and down how deep. */
function points(g, y) {
  const { length_ms, depth_db } = data;
  data.points.forEach((point, n) => {
    const share = (value) => Number(Math.min(1, Math.max(0, value)).toFixed(3));
    const before = data.points[n - 1]?.at ?? 0;
    const after = data.points[n + 1]?.at ?? 1;
    const at = (value) => share(Math.min(after, Math.max(before, value)));
    const put = (when, deep) => ({ [`${point.path}.at`]: at(when), [`${point.path}.deep`]: share(deep) });
    const [top, foot] = g.lower;
    const deepAt = (clientY) => {
      const area = plot().getBoundingClientRect();
      const zero = y(0);
      return (clientY - area.top - zero) / Math.max(1, y(-depth_db) - zero);
    };
    handle(g.svg, {
      x: g.x(point.at * length_ms),
      y: Math.min(foot - 4, Math.max(top, y(-point.deep * depth_db))),
      id: `hit-${point.path}`,
      label: `Point ${n + 1}`,
      words: `${(point.at * 100).toFixed(0)} % of the length, ${(point.deep * 100).toFixed(0)} % of the depth`,
      range: [100 * point.at, 0, 100],
      moved: (event) => put(g.msAt(event.clientX) / length_ms, deepAt(event.clientY)),
      stepped: (key, event) => {
        const size = event.shiftKey ? 0.005 : 0.02;
        const moves = { ArrowLeft: [-size, 0], ArrowRight: [size, 0], ArrowUp: [0, -size], ArrowDown: [0, size] };
        return key in moves ? put(point.at + moves[key][0], point.deep + moves[key][1]) : null;
      },
      back: put(point.at, point.deep),
    });
  });
}

function showLower() {
  const chosen = document.querySelector('#lower input:checked')?.value ?? "loop";
  for (const one of document.querySelectorAll("[data-lower]")) one.hidden = one.dataset.lower !== chosen;
  const line = document.getElementById("hit-line");
  if (line && chosen === "loop") line.textContent = "pale: before the moves, full: after; below, the gain";
}

function wire() {
  data = null;
  const box = plot();
  const lower = document.getElementById("lower");
  if (!lower) return;
  const kept = localStorage.getItem("pondel-lower");
  const input = lower.querySelector(`input[value="${kept}"]`);
  if (input) input.checked = true;
  showLower();
  lower.onchange = () => {
    localStorage.setItem("pondel-lower", lower.querySelector("input:checked").value);
    showLower();
    load();
    window.dispatchEvent(new Event("resize"));
  };
  if (!box) return;
  new ResizeObserver(redraw).observe(box);
  load();
}

/** A value that was set is drawn where it is now, before the picture is made anew. */
function learnValue({ field, value }) {
  const one = data?.times.find((time) => time.field === field);
  if (one) {
    const by = value - one.value_ms;
    one.value_ms = value;
    for (const later of data.times.slice(data.times.indexOf(one) + 1)) later.from_ms += by;
  }
  const point = data?.points.find(({ path }) => field === `${path}.at` || field === `${path}.deep`);
  if (point) point[field.endsWith(".at") ? "at" : "deep"] = value;
  if (one || point) redraw();
}

export function start() {
  on("view", wire);
  on("value", learnValue);
  on("changed", soon);
  on("loop", soon);
  on("sheet", redraw);
}
