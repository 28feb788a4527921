// When and where one part hides another: bands over time, with the leader's hits.
import { about, getInTurn } from "./api.js";
import { MARKS_HZ, axisWord, hzWord } from "./axis.js";
import { clear, pointNeedle, readout, sized } from "./plots.js";
import { question } from "./questions.js";
import { barLines, barWord, barsBeats, beat } from "./beats.js";
import { on, state } from "./state.js";
import { player } from "./deck.js";

const LEFT = 40;
const FOOT = 16;
const HEAD = 10;

let data = null;
let range = null;
let cursor = null;

const box = () => document.querySelector('[data-plot="map"]');

const { now: load, soon } = question(
  async (signal) => {
    if (!box()) return;
    const { start_s, end_s } = range ?? state.loop;
    data = await getInTurn(about("lanes/map", { start_s, end_s }), signal);
    redraw();
  },
  (message) => (box().textContent = message),
  200,
);

function redraw() {
  const place = box();
  if (!place || !data) return;
  let canvas = place.querySelector("canvas");
  if (!canvas) {
    canvas = document.createElement("canvas");
    canvas.setAttribute("aria-hidden", "true");
    place.replaceChildren(canvas);
  }
  const { context, width, height, css } = sized(canvas);
  if (width < 60 || height < 40) return;
  clear(context, width, height);
  area = { left: LEFT, width: width - LEFT, height: height - FOOT };
  const { hiderInk, leaderInk } = place.dataset;
  const inner = { left: LEFT, right: width, top: HEAD, bottom: height - FOOT };
  const x = (s) => LEFT + ((s - data.start_s) / (data.end_s - data.start_s)) * (width - LEFT);
  const rows = data.hz.length;
  const rowHeight = (inner.bottom - inner.top) / rows;
  bars(context, css, x, inner);
  context.fillStyle = css(`--ink-${hiderInk}`);
  data.share.forEach((column, i) => {
    const left = x(data.start_s + i * data.seconds);
    const wide = Math.max(1, x(data.start_s + (i + 1) * data.seconds) - left + 0.3);
    for (let b = 0; b < rows; b++) {
      const depth = column[b] * Math.sqrt(data.alone[i][b]);
      if (depth < 0.03) continue;
      context.globalAlpha = Math.min(1, depth);
      context.fillRect(left, inner.bottom - (b + 1) * rowHeight, wide, rowHeight + 0.3);
    }
  });
  context.globalAlpha = 1;
  scale(context, css, inner, rowHeight);
  context.fillStyle = css(`--ink-${leaderInk}`);
  for (const hit of data.hits_s) {
    context.beginPath();
    context.moveTo(x(hit) - 3.5, 1);
    context.lineTo(x(hit) + 3.5, 1);
    context.lineTo(x(hit), 8);
    context.fill();
  }
  if (cursor) {
    context.strokeStyle = css("--ink");
    context.lineWidth = 1;
    context.strokeRect(x(data.start_s + cursor.column * data.seconds), inner.bottom - (cursor.band + 1) * rowHeight, Math.max(3, (data.seconds / (data.end_s - data.start_s)) * (width - LEFT)), rowHeight);
  }
  point();
}

function bars(context, css, x, inner) {
  context.font = "500 10.5px 'Martian Mono'";
  context.textAlign = "left";
  const lines = barLines(data.start_s, data.end_s);
  const every = Math.max(1, Math.ceil((lines.length - 1) / 16));
  lines.forEach(({ bar, s, beats }, n) => {
    context.fillStyle = css("--rule2");
    context.fillRect(x(s), inner.top, 1, inner.bottom - inner.top);
    context.fillStyle = css("--soft");
    if (n % every === 0 && x(s) < inner.right - 40) context.fillText(barWord(bar), x(s) + 2, inner.bottom + 12);
    context.fillStyle = css("--rule");
    for (const at of lines.length > 11 ? [] : beats) context.fillRect(x(at), inner.top, 1, inner.bottom - inner.top);
  });
}

function scale(context, css, inner, rowHeight) {
  context.fillStyle = css("--soft");
  context.textAlign = "right";
  context.font = "500 10.5px 'Martian Mono'";
  let lowest = inner.bottom + 12;
  for (const hz of MARKS_HZ) {
    const row = rowAt(hz);
    const y = inner.bottom - (row + 0.5) * rowHeight;
    if (row < 0 || y < inner.top + 8 || lowest - y < 13) continue;
    lowest = y;
    context.fillText(axisWord(hz), LEFT - 6, y + 4);
    context.fillRect(LEFT - 4, y, 4, 1);
  }
}

/** Where a frequency lies among the rows, which stand at the middles of their bands; -1 outside of them. */
function rowAt(hz) {
  const above = data.hz.findIndex((one) => one >= hz);
  if (above < 0) return -1;
  if (above === 0) return data.hz[0] === hz ? 0 : -1;
  const [low, high] = [data.hz[above - 1], data.hz[above]];
  return above - 1 + Math.log(hz / low) / Math.log(high / low);
}

let area = null;
function point() {
  const place = box();
  if (!place || !data || !area) return;
  pointNeedle(place, (player.position() - data.start_s) / (data.end_s - data.start_s), area);
}

function read() {
  const place = box();
  if (!cursor) return readout(place, null);
  const { column, band } = cursor;
  const s = data.start_s + (column + 0.5) * data.seconds;
  const [number, counted] = barsBeats(s).split(".");
  const where = state.facts.tempo_known ? `bar ${number}, beat ${counted}` : `${s.toFixed(2)} s`;
  const last = data.hits_s.filter((hit) => hit <= s + 0.005).at(-1);
  const after = last != null && s - last < 2 * beat(s) ? `, ${Math.round((s - last) * 1000)} ms after a hit` : "";
  const { leaderName, yieldName, yielderName } = place.dataset;
  const quiet = data.alone[column][band] < 0.02;
  const words = quiet
    ? `${where} · ${hzWord(data.hz[band])} · ${leaderName} is silent here`
    : `${where}${after} · ${hzWord(data.hz[band])} · ${yieldName ?? yielderName} hides ${Math.round(data.share[column][band] * 100)} % of ${leaderName}`;
  readout(place, words);
}

function under(event) {
  const area = box().getBoundingClientRect();
  const share = (event.clientX - area.left - LEFT) / (area.width - LEFT);
  const up = (area.bottom - FOOT - event.clientY) / (area.height - FOOT - HEAD);
  if (share < 0 || share >= 1 || up < 0 || up >= 1) return null;
  return { column: Math.min(data.share.length - 1, Math.floor((share * (data.end_s - data.start_s)) / data.seconds)), band: Math.floor(up * data.hz.length) };
}

function zoom(factor, around = null) {
  const now = range ?? state.loop;
  const middle = around ?? (now.start_s + now.end_s) / 2;
  const song = state.facts.seconds;
  const length = Math.min(song, Math.max(beat(middle), (now.end_s - now.start_s) * factor));
  const share = (middle - now.start_s) / (now.end_s - now.start_s);
  const start_s = Math.min(Math.max(0, middle - share * length), song - length);
  range = { start_s, end_s: start_s + length };
  soon();
}

function wire() {
  data = null;
  cursor = null;
  range = null;
  const place = box();
  if (!place) return;
  place.addEventListener("pointermove", (event) => {
    if (!data) return;
    cursor = under(event);
    redraw();
    read();
  });
  place.addEventListener("pointerleave", () => {
    cursor = null;
    redraw();
    read();
  });
  place.addEventListener(
    "wheel",
    (event) => {
      if (!data || document.activeElement !== place) return;
      event.preventDefault();
      const at = under(event);
      zoom(event.deltaY > 0 ? 1.5 : 1 / 1.5, at ? data.start_s + at.column * data.seconds : null);
    },
    { passive: false },
  );
  place.addEventListener("keydown", (event) => {
    const steps = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1], PageUp: [12, 0], PageDown: [-12, 0] };
    if (!data) return;
    if (event.key === "+" || event.key === "-") return zoom(event.key === "+" ? 1 / 1.5 : 1.5);
    if (event.key === "Escape") cursor = null;
    else if (event.key in steps) {
      const [dx, dy] = steps[event.key];
      cursor ??= { column: 0, band: 0 };
      cursor = { column: Math.min(data.share.length - 1, Math.max(0, cursor.column + dx)), band: Math.min(data.hz.length - 1, Math.max(0, cursor.band + dy)) };
    } else return;
    event.preventDefault();
    redraw();
    read();
  });
  for (const button of document.querySelectorAll("[data-map]")) {
    button.onclick = () => {
      if (button.dataset.map === "loop") {
        range = null;
        load();
      } else zoom(button.dataset.map === "in" ? 1 / 1.5 : 1.5);
    };
  }
  new ResizeObserver(redraw).observe(place);
  load();
}

export function start() {
  on("view", wire);
  on("changed", soon);
  on("level", soon);
  on("loop", () => range ?? soon());
  on("sheet", redraw);
  on("playhead", point);
}
