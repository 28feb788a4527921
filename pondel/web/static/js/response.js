// The response: part before and after, the key, the gain as it moves, and handles on the curve.
import { about, getInTurn, getJSON } from "./api.js";
import { hzWord, nearest, within } from "./axis.js";
import { through, under } from "./curve.js";
import { axisNow, draw, emptied, frequencyMarks, readout, write, zoneBand } from "./plots.js";
import { gainOf } from "./gain.js";
import { handle } from "./handles.js";
import { settleFocus } from "./keep.js";
import { question } from "./questions.js";
import * as deck from "./deck.js";
import { on, state } from "./state.js";

const LEFT = 40;
const RIGHT = 40;
const TOP = 8;
const BOTTOM = 20;
const [LOWEST_HZ, HIGHEST_HZ] = [20, 20_000];
const GAIN_SPAN_DB = 24;
const LEVEL_SPAN_DB = 60;

let shape = null;
let live = null;
/** The step of the loop that is drawn, with *now*, and the level at the top of the picture. */
let step = -1;
let top_db = 0;
let cursor = null;
let held = 0;
let drawnAt = -1;

const plot = () => document.querySelector('[data-plot="response"]');

const trouble = (message) => plot() && (plot().textContent = message);

/** The curve and its handles; asked for again as soon as it is there, if the move changed meanwhile. */
const curve = question(async (signal) => {
  const { part, move } = state.view;
  if (!plot() || !move) return;
  stale = false;
  asking = true;
  try {
    shape = await getJSON(about("moves/response", { part, move }), signal);
  } finally {
    asking = false;
  }
  if (shown) redrawAbove();
  else redraw();
  if (stale) follow();
}, trouble);

/** The spectra and gains that move with the sound. */
const moving = question(async (signal) => {
  const { part, move } = state.view;
  if (!plot() || !move) return;
  const asked = [...document.querySelectorAll("[data-spectra]")].map((one) => [one.dataset.spectra, one.value]);
  live = await getInTurn(about("moves/live", { part, move, ...Object.fromEntries(asked.filter(([, value]) => value)) }), signal);
  held = 0;
  step = -1;
  const drawn = ["before", "after", "key"].flatMap((name) => live.moving?.rows[name]?.flat() ?? live[name] ?? []);
  top_db = Math.ceil((drawn.reduce((highest, db) => Math.max(highest, db), -200) + 3) / 6) * 6;
  stepOn();
  redraw();
  numbers();
}, trouble);

/** With *now*, the spectra at the playhead take the place of those of the loop; true when they changed. */
function stepOn() {
  if (!live?.moving) return false;
  const { step_s, rows } = live.moving;
  const now = Math.min(rows.after.length - 1, Math.max(0, Math.floor((deck.player.position() - live.start_s) / step_s)));
  if (now === step) return false;
  step = now;
  for (const name in rows) live[name] = rows[name][step];
  return true;
}

let asking = false;
let stale = false;
function follow() {
  stale = true;
  if (!asking) curve.now();
}

/** The trace's value at the playhead, in dB of reduction. */
function reductionNow(name) {
  const trace = live?.traces?.[name];
  if (!trace?.db.length) return 0;
  const at = Math.floor((deck.player.position() - live.start_s) * trace.rate);
  return trace.db[Math.min(trace.db.length - 1, Math.max(0, at))] ?? 0;
}

/** The gain over frequency in dB, with the bands' gains as they are at the playhead. */
const gainNow = () => gainOf(shape, (trace) => -reductionNow(trace));

function geometry(box) {
  const { width, height } = box.getBoundingClientRect();
  const across = axisNow();
  const inner = width - LEFT - RIGHT;
  const deep = height - TOP - BOTTOM;
  const x = (hz) => LEFT + across.share(within(hz)) * inner;
  const yGain = (db) => TOP + ((GAIN_SPAN_DB / 2 - Math.min(GAIN_SPAN_DB / 2, Math.max(-GAIN_SPAN_DB / 2 - 6, db))) / (GAIN_SPAN_DB + 6)) * deep;
  const yLevel = (db) => TOP + (Math.min(LEVEL_SPAN_DB, Math.max(0, top_db - db)) / LEVEL_SPAN_DB) * deep;
  const hzAt = (clientX) => within(across.hz((clientX - box.getBoundingClientRect().left - LEFT) / inner));
  const dbAt = (clientY) => GAIN_SPAN_DB / 2 - ((clientY - box.getBoundingClientRect().top - TOP) / deep) * (GAIN_SPAN_DB + 6);
  return { width, height, x, yGain, yLevel, hzAt, dbAt, top_db, base: TOP + deep };
}

let shown = null;

/** Draw all anew: below what stays while the sound moves, above what moves or is moved. */
function redraw() {
  const box = plot();
  if (!box || !shape) return;
  const g = geometry(box);
  if (g.width < 80 || g.height < 60) return;
  shown = g;
  const still = emptied(box, g);
  grid(still, g);
  zone(still, g);
  if (live) levels(still, g, box);
  if (!still.isConnected) box.replaceChildren(still);
  redrawAbove();
}

const lineOf = (levels) => `M${through(levels.map((db, i) => ({ x: shown.x(shape.hz[i]), y: shown.yGain(db) })))}`;
const gainLine = () => lineOf(gainNow());

/** The gain, the cursor and the handles, in a layer of their own. */
function redrawAbove() {
  const box = plot();
  if (!box.querySelector("svg")) return redraw();
  const focused = document.activeElement?.closest?.(".handle")?.id;
  const above = emptied(box, shown, { class: "above" });
  if (shape.asked_db.length) above.append(draw("path", { d: lineOf(shape.asked_db), class: "gain-asked" }));
  above.append(draw("path", { d: gainLine(), class: "gain-now" }));
  if (cursor != null) {
    const x = shown.x(shape.hz[cursor]);
    above.append(draw("line", { x1: x, x2: x, y1: TOP, y2: shown.base, class: "cursor-line" }));
  }
  for (const one of shape.handles) addHandle(above, shown, one);
  if (!above.isConnected) box.querySelector("svg").after(above);
  if (focused) above.querySelector(`#${CSS.escape(focused)}`)?.focus();
  settleFocus();
}

function grid(svg, g) {
  frequencyMarks(svg, { x: g.x, top: TOP, base: g.base });
  for (let db = 12; db >= -18; db -= 6) {
    svg.append(draw("line", { x1: LEFT, x2: g.width - RIGHT, y1: g.yGain(db), y2: g.yGain(db), class: `grid-line${db === 0 ? " strong" : ""}` }));
    svg.append(draw("text", { x: LEFT - 5, y: g.yGain(db) + 4, class: "axis", "text-anchor": "end" }, `${db > 0 ? "+" : db < 0 ? "−" : ""}${Math.abs(db)}`));
  }
  svg.append(draw("text", { x: 0, y: g.base + 14, class: "axis" }, "dB"));
  const about = [shape.of && `gain of ${shape.of}`, shape.asked_db.length && "dashed: as asked, line: as applied"].filter(Boolean);
  if (about.length) svg.append(draw("text", { x: LEFT + 8, y: g.base - 8, class: "axis" }, about.join("; ")));
}

function zone(svg, g) {
  const { zone: chosen } = state.view;
  if (chosen) zoneBand(svg, { low: g.x(chosen.low_hz), high: g.x(chosen.high_hz), top: TOP, base: g.base });
}

function levels(svg, g, box) {
  const { leaderInk, leaderDash, partInk, partDash } = box.dataset;
  const curveOf = (values) => values.map((db, i) => ({ x: g.x(shape.hz[i]), y: g.yLevel(db) }));
  const line = (values) => `M${through(curveOf(values))}`;
  const area = (values) => under(curveOf(values), g.base);
  for (let db = g.top_db - 12; db > g.top_db - LEVEL_SPAN_DB; db -= 12) {
    svg.append(draw("text", { x: g.width - RIGHT + 5, y: g.yLevel(db) + 4, class: "axis" }, String(db).replace("-", "−")));
  }
  svg.append(draw("text", { x: g.width - 2, y: TOP + 6, class: "axis", "text-anchor": "end" }, "dBFS"));
  svg.append(draw("path", { d: area(live.after), class: `under ink-${partInk}` }));
  if (live.key) svg.append(draw("path", { d: line(live.key), class: `curve ink-${leaderInk}`, "stroke-dasharray": leaderDash, "stroke-width": 1.5 }));
  if (live.kept) svg.append(draw("path", { d: line(live.kept), class: "gain-asked" }));
  svg.append(draw("path", { d: line(live.before), class: `curve thin ink-${partInk}` }));
  svg.append(draw("path", { d: line(live.after), class: `curve ink-${partInk}`, "stroke-dasharray": partDash }));
}

/** Hear only the handle's band while it is held, if asked to. */
let heardBefore = null;
function solo(one, down) {
  if (!document.getElementById("solo-held")?.checked) return;
  if (down && one.low_hz) {
    heardBefore = { hear: state.hear, zone: state.view.zone };
    state.view.zone = { low_hz: one.low_hz, high_hz: one.high_hz };
    deck.hear("zone");
  } else if (!down && heardBefore) {
    state.view.zone = heardBefore.zone;
    deck.hear(heardBefore.hear);
    heardBefore = null;
  }
}

const tidyHz = (hz) => Number(within(hz).toFixed(hz < 100 ? 1 : 0));

function addHandle(svg, g, one) {
  const gain = one.db_field != null;
  const y = one.db != null ? g.yGain(one.db) : TOP + 14;
  const words = [hzWord(one.hz), one.db != null ? `${one.db.toFixed(1).replace("-", "−")} dB` : "", one.q != null ? `Q ${one.q.toFixed(2)}` : ""].filter(Boolean).join(", ");
  const values = (hz, db, q) => {
    const found = {};
    if (hz != null) found[one.hz_field] = tidyHz(hz);
    if (db != null && gain) found[one.db_field] = Number(Math.min(18, Math.max(-30, db)).toFixed(1));
    if (q != null && one.q_field) found[one.q_field] = Number(Math.min(20, Math.max(0.2, q)).toFixed(2));
    return found;
  };
  handle(svg, {
    x: g.x(one.hz),
    y,
    id: one.hz_field,
    label: one.name,
    mark: one.mark,
    words,
    range: [one.hz, LOWEST_HZ, HIGHEST_HZ],
    line: one.db == null ? [TOP, g.base] : null,
    moved: (event) => values(g.hzAt(event.clientX), gain ? g.dbAt(event.clientY) : null, null),
    stepped: (key, event) => {
      const size = event.shiftKey ? 0.1 : 1;
      const steps = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1], PageUp: [0, 6], PageDown: [0, -6] };
      if (key in steps) {
        const [dx, dy] = steps[key];
        return values(dx ? one.hz * 2 ** ((dx * size) / 12) : null, dy ? one.db + 0.5 * dy * size : null, null);
      }
      if (key === "+" || key === "-") return values(null, null, one.q * (key === "+" ? 1.1 : 1 / 1.1));
      return null;
    },
    back: values(one.hz, one.db, one.q),
    held: (down) => solo(one, down),
    wheel: one.q_field ? (event) => values(null, null, one.q * (event.deltaY < 0 ? 1.12 : 1 / 1.12)) : null,
  });
}

function read() {
  const box = plot();
  if (cursor == null || !live) return readout(box, null);
  const db = (v) => `${v.toFixed(1).replace("-", "−")} dB`;
  const { leaderName, partName } = box.dataset;
  const parts = [hzWord(shape.hz[cursor]), `${partName} ${db(live.before[cursor])} → ${db(live.after[cursor])}`];
  if (live.key) parts.push(`${leaderName} ${db(live.key[cursor])}`);
  parts.push(`gain now ${db(gainNow()[cursor])}`);
  readout(box, parts.join(" · "));
}

function numbers() {
  const place = document.getElementById("gr-now");
  if (!place || !live) return;
  if (!live.traces?.[state.view.move]) {
    write(place, "–");
    write(document.getElementById("gr-held"), "–");
    return;
  }
  const now = reductionNow(state.view.move);
  if (Math.abs(now) > Math.abs(held)) held = now;
  const words = (db) => (Math.abs(db) < 0.05 ? "0.0 dB" : `${db > 0 ? "−" : "+"}${Math.abs(db).toFixed(1)} dB`);
  write(place, words(now));
  write(document.getElementById("gr-held"), words(held));
}

/** While the sound moves only the gain curve is drawn anew. */
function playhead() {
  const box = plot();
  if (!box || !shown || !live) return;
  const now = performance.now();
  if (now - drawnAt < 30) return;
  drawnAt = now;
  numbers();
  if (stepOn()) {
    redraw();
    read();
    return;
  }
  box.querySelector(".above .gain-now")?.setAttribute("d", gainLine());
}

function wire() {
  shape = null;
  live = null;
  shown = null;
  cursor = null;
  const box = plot();
  if (!box) return;
  box.addEventListener("pointermove", (event) => {
    if (!shown || event.target.closest?.(".handle") || event.buttons) return;
    cursor = nearest(shape.hz, geometry(box).hzAt(event.clientX));
    redrawAbove();
    read();
  });
  box.addEventListener("pointerleave", () => {
    cursor = null;
    if (shown) redrawAbove();
    read();
  });
  box.addEventListener("keydown", (event) => {
    if (!shown || event.target !== box) return;
    const steps = { ArrowLeft: -2, ArrowRight: 2, PageDown: -24, PageUp: 24 };
    if (event.key === "Escape") cursor = null;
    else if (event.key in steps) cursor = Math.min(shape.hz.length - 1, Math.max(0, (cursor ?? 48) + steps[event.key]));
    else return;
    event.preventDefault();
    redrawAbove();
    read();
  });
  for (const one of document.querySelectorAll("[data-spectra]")) one.onchange = () => moving.now();
  new ResizeObserver(redraw).observe(box);
  curve.now();
  moving.now();
}

export function start() {
  on("view", wire);
  on("changed", () => {
    follow();
    moving.soon();
  });
  on("loop", moving.soon);
  on("sheet", redraw);
  on("spread", redraw);
  on("playhead", playhead);
}
