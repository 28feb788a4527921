// One hit, averaged: leader, part before and after, and the gain with handles for attack, hold, release.
import { about, getJSON } from "./api.js";
import { draw } from "./plots.js";
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
let settings = null;

const plot = () => document.querySelector('[data-plot="hit"]');

const { now: load, soon } = question(
  async (signal) => {
    const box = plot();
    const { part, move } = state.view;
    if (!box || box.hidden || !move) return;
    data = await getJSON(about("moves/hit", { part, move }), signal);
    const line = document.getElementById("hit-line");
    if (line) line.textContent = data.leader ? `${data.hits} hits in the loop; grey: their spread` : "no hit lies whole inside the loop";
    redraw();
  },
  (message) => plot() && (plot().textContent = message),
);

/** The settings of the move that have handles, with the path to them: its own or its chosen band's. */
function timing() {
  if (!settings) return null;
  if ("attack_ms" in settings) return { path: "", values: settings };
  const band = settings.bands?.[state.view.item ?? 0];
  return band && "attack_ms" in band ? { path: `bands.${state.view.item ?? 0}.`, values: band } : null;
}

function redraw() {
  const box = plot();
  if (!box || !data) return;
  const { width, height } = box.getBoundingClientRect();
  if (width < 80 || height < 60) return;
  const focused = document.activeElement?.closest?.(".handle")?.id;
  const svg = draw("svg", { viewBox: `0 0 ${width} ${height}` });
  const upper = (height - FOOT) * 0.52;
  const x = (ms) => LEFT + ((ms + data.before_s * 1000) / ((data.before_s + data.after_s) * 1000)) * (width - LEFT - RIGHT);
  const msAt = (clientX) => ((clientX - box.getBoundingClientRect().left - LEFT) / (width - LEFT - RIGHT)) * (data.before_s + data.after_s) * 1000 - data.before_s * 1000;
  const g = { svg, width, height, upper, x, msAt, lower: [upper + 8, height - FOOT] };
  times(g);
  if (data.leader) envelopes(g, box);
  if (data.gain) gain(g, box);
  box.replaceChildren(svg);
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
  for (const { beats, name } of NOTES) {
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
  const line = (values) => values.map((db, i) => `${i ? "L" : "M"}${at(i).toFixed(1)} ${y(db).toFixed(1)}`).join("");
  const area = (values) => `${line(values)}L${at(values.length - 1)} ${g.upper}L${at(0)} ${g.upper}Z`;
  g.svg.append(draw("path", { d: area(data.leader.mean), class: `under ink-${leaderInk}`, opacity: 0.2 }));
  g.svg.append(draw("path", { d: area(data.after.mean), class: `under ink-${partInk}`, opacity: 0.2 }));
  g.svg.append(draw("path", { d: line(data.leader.mean), class: `curve ink-${leaderInk}` }));
  g.svg.append(draw("path", { d: line(data.before.mean), class: `curve thin ink-${partInk}` }));
  g.svg.append(draw("path", { d: line(data.after.mean), class: `curve ink-${partInk}`, "stroke-dasharray": "6 3" }));
  for (let db = Math.floor(top / 12) * 12; db > top - LEVEL_SPAN_DB; db -= 12) {
    g.svg.append(draw("text", { x: LEFT - 5, y: y(db) + 4, class: "axis", "text-anchor": "end" }, String(db).replace("-", "−")));
  }
  // The tags stand at the middle of the picture, the louder part's above.
  const middle = Math.floor(data.leader.mean.length * 0.62);
  const [one, other] = [y(data.leader.mean[middle]), y(data.after.mean[middle])];
  const above = one <= other;
  g.svg.append(draw("text", { x: at(middle), y: one + (above ? -5 : 14), class: `axis ink-${leaderInk} inked` }, leaderTag));
  g.svg.append(draw("text", { x: at(middle), y: other + (above ? 14 : -5), class: `axis ink-${partInk} inked` }, partTag));
}

function gain(g, box) {
  const deepest = Math.min(-6, Math.floor(Math.min(...data.gain.low) / 6) * 6);
  const highest = Math.max(0, Math.ceil(Math.max(...data.gain.high) / 6) * 6);
  const [top, foot] = g.lower;
  const y = (db) => top + ((highest - db) / (highest - deepest)) * (foot - top - 4);
  const at = (i) => g.x((i * data.trace_step_s - data.before_s) * 1000);
  for (let db = highest; db >= deepest; db -= 6) {
    g.svg.append(draw("line", { x1: LEFT, x2: g.width - RIGHT, y1: y(db), y2: y(db), class: `grid-line${db === 0 ? " strong" : ""}` }));
    g.svg.append(draw("text", { x: LEFT - 5, y: y(db) + 4, class: "axis", "text-anchor": "end" }, db === 0 ? "0 dB" : String(db).replace("-", "−")));
  }
  const line = (values) => values.map((db, i) => `${i ? "L" : "M"}${at(i).toFixed(1)} ${y(db).toFixed(1)}`).join("");
  const back = data.gain.low.map((db, i) => `L${at(i).toFixed(1)} ${y(db).toFixed(1)}`).reverse().join("");
  g.svg.append(draw("path", { d: `${line(data.gain.high)}${back}Z`, class: "spread" }));
  g.svg.append(draw("path", { d: line(data.gain.mean), class: "gain-now" }));
  const value = (ms) => data.gain.mean[Math.min(data.gain.mean.length - 1, Math.max(0, Math.round((ms / 1000 + data.before_s) / data.trace_step_s)))];
  if (box.dataset.kind === "drawn duck") points(g, y);
  else handlesOf(g, (ms) => y(value(ms)));
}

const step = (value, key, event, floor) => {
  const factor = event.shiftKey ? 1.01 : 1.06;
  const moves = { ArrowRight: factor, ArrowUp: factor, ArrowLeft: 1 / factor, ArrowDown: 1 / factor, PageUp: 1.5, PageDown: 1 / 1.5 };
  return key in moves ? Math.max(floor, value * moves[key]) : null;
};

function handlesOf(g, y) {
  const found = timing();
  if (!found) return;
  const { path, values } = found;
  const attack = values.attack_ms;
  const hold = values.hold_ms ?? 0;
  const release = values.release_ms;
  const round = (ms, least) => Number(Math.max(least, ms).toFixed(ms < 10 ? 2 : 0));
  const put = (field, ms, least) => ({ [path + field]: round(ms, least) });
  const words = (ms) => `${round(ms, 0)} ms`;
  const one = (label, at, field, value, least, from) =>
    handle(g.svg, {
      x: g.x(at),
      y: y(at),
      id: `hit-${path}${field}`,
      label,
      words: words(value),
      moved: (event) => put(field, g.msAt(event.clientX) - from, least),
      stepped: (key, event) => {
        const next = step(Math.max(value, least), key, event, least);
        return next == null ? null : put(field, next, least);
      },
      back: put(field, value, least),
    });
  one("Attack", attack, "attack_ms", attack, 0.1, 0);
  if ("hold_ms" in values) one("Hold", attack + hold, "hold_ms", hold, 0, attack);
  if (release != null) one(values.listens ? "Return" : "Release", Math.min(attack + hold + release, data.after_s * 1000), "release_ms", release, 5, attack + hold);
}

/** The points of a drawn curve: sideways is when, up and down how deep. */
function points(g, y) {
  if (!settings?.points) return;
  const length = settings.length_ms ?? settings.length_beats * data.beat_s * 1000;
  const depth = settings.depth_db;
  settings.points.forEach((point, n) => {
    const share = (value) => Number(Math.min(1, Math.max(0, value)).toFixed(3));
    const before = settings.points[n - 1]?.at ?? 0;
    const after = settings.points[n + 1]?.at ?? 1;
    const at = (value) => share(Math.min(after, Math.max(before, value)));
    const put = (when, deep) => ({ [`points.${n}.at`]: at(when), [`points.${n}.deep`]: share(deep) });
    const [top, foot] = g.lower;
    const deepAt = (clientY) => {
      const area = plot().getBoundingClientRect();
      const zero = y(0);
      return (clientY - area.top - zero) / Math.max(1, y(-depth) - zero);
    };
    handle(g.svg, {
      x: g.x(point.at * length),
      y: Math.min(foot - 4, Math.max(top, y(-point.deep * depth))),
      id: `hit-points.${n}`,
      label: `Point ${n + 1}`,
      words: `${(point.at * 100).toFixed(0)} % of the length, ${(point.deep * 100).toFixed(0)} % of the depth`,
      moved: (event) => put(g.msAt(event.clientX) / length, deepAt(event.clientY)),
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
  settings = JSON.parse(box.dataset.settings);
  new ResizeObserver(redraw).observe(box);
  load();
}

/** An edit's answer in words of the document keeps the handles where the values are. */
export function learnValue(field, value) {
  if (!settings) return;
  const steps = field.split(".");
  let place = settings;
  for (const step of steps.slice(0, -1)) place = place?.[step];
  if (place && typeof place === "object") place[steps.at(-1)] = value;
}

export function start() {
  on("view", wire);
  on("value", ({ field, value }) => learnValue(field, value));
  on("changed", soon);
  on("loop", soon);
  on("sheet", redraw);
}
