// The leader's and the yielder's outline over the loop, with the gain as it falls and returns.
import { about, getInTurn } from "./api.js";
import { clear, pointNeedle, sized } from "./plots.js";
import { question } from "./questions.js";
import { barLines, barWord } from "./beats.js";
import { on, state } from "./state.js";
import { player } from "./deck.js";

const LEFT = 38;
const RIGHT = 12;
const FOOT = 20;

let data = null;

const plot = () => document.querySelector('[data-plot="strips"]');

const { now: load, soon } = question(
  async (signal) => {
    if (!plot()) return;
    data = await getInTurn(about("strips"), signal);
    redraw();
  },
  (message) => (plot().textContent = message),
);

function redraw() {
  const box = plot();
  if (!box || !data) return;
  let canvas = box.querySelector("canvas");
  if (!canvas) {
    canvas = document.createElement("canvas");
    canvas.setAttribute("aria-hidden", "true");
    box.replaceChildren(canvas);
  }
  const { context, width, height, css } = sized(canvas);
  if (width < 50 || height < 50) return;
  clear(context, width, height);
  const { leaderInk, yielderInk, leaderTag, yielderTag } = box.dataset;
  const body = height - FOOT;
  area = { left: LEFT, width: width - LEFT - RIGHT, height: body };
  /** @type {Record<string, [number, number]>} the top of each row, and how tall it is */
  const rows = { leader: [0, body * 0.3], yielder: [body * 0.31, body * 0.36], gain: [body * 0.7, body * 0.3] };
  const x = (s) => LEFT + ((s - data.start_s) / (data.end_s - data.start_s)) * (width - LEFT - RIGHT);
  const pen = { context, css, x, width };
  grid(pen, body);
  wave(pen, data.leader, rows.leader, css(`--ink-${leaderInk}`), 0.9);
  wave(pen, data.before, rows.yielder, css(`--ink-${yielderInk}`), 0.3);
  wave(pen, data.after, rows.yielder, css(`--ink-${yielderInk}`), 0.9);
  badge(pen, leaderTag, rows.leader, css(`--ink-${leaderInk}`));
  badge(pen, yielderTag, rows.yielder, css(`--ink-${yielderInk}`));
  reduction(pen, rows.gain);
  hits(pen, rows.leader[0], css(`--ink-${leaderInk}`));
  point();
}

let area = null;
function point() {
  const box = plot();
  if (!box || !data || !area) return;
  pointNeedle(box, (player.position() - data.start_s) / (data.end_s - data.start_s), area);
}

function grid({ context, css, x }, body) {
  context.font = "500 10.5px 'Martian Mono'";
  context.textAlign = "center";
  const lines = barLines(data.start_s, data.end_s);
  for (const { bar, s, beats } of lines) {
    context.fillStyle = css("--rule");
    for (const at of lines.length > 12 ? [] : beats) context.fillRect(x(at), 0, 1, body);
    context.fillStyle = css("--rule2");
    context.fillRect(x(s), 0, 1, body);
    context.fillStyle = css("--soft");
    context.fillText(barWord(bar), Math.min(x(s), x(data.end_s) - 18), body + 14);
  }
}

function wave({ context, width }, columns, [top, tall], colour, alpha) {
  const all = columns === data.leader ? data.leader : data.before;
  const most = Math.max(1e-4, ...all.map(([low, high]) => Math.max(-low, high)));
  const middle = top + tall / 2;
  const scale = (tall / 2 - 3) / most;
  const step = (width - LEFT - RIGHT) / columns.length;
  context.globalAlpha = alpha;
  context.fillStyle = colour;
  columns.forEach(([low, high], i) => {
    context.fillRect(LEFT + i * step, middle - high * scale, Math.max(step, 0.8), Math.max(0.8, (high - low) * scale));
  });
  context.globalAlpha = 1;
}

function badge({ context, css }, tag, [top, tall], colour) {
  context.fillStyle = colour;
  context.fillRect(2, top + tall / 2 - 9, 27, 18);
  context.fillStyle = css("--tag");
  context.font = "700 11px 'Martian Mono'";
  context.textAlign = "center";
  context.fillText(tag, 15.5, top + tall / 2 + 4);
}

function hits({ context, x }, top, colour) {
  context.fillStyle = colour;
  for (const hit of data.hits_s) {
    context.beginPath();
    context.moveTo(x(hit) - 4, top);
    context.lineTo(x(hit) + 4, top);
    context.lineTo(x(hit), top + 6);
    context.fill();
  }
}

function reduction({ context, css, x, width }, [top, tall]) {
  const traces = Object.entries(data.reductions);
  const deepest = Math.max(6, ...traces.flatMap(([, trace]) => trace.most.length ? [Math.max(...trace.most)] : []));
  const span = Math.ceil(deepest / 3) * 3;
  const y = (db) => top + 6 + (db / span) * (tall - 10);
  context.font = "500 10.5px 'Martian Mono'";
  context.textAlign = "right";
  for (let db = 0; db <= span; db += span > 12 ? 6 : 3) {
    context.fillStyle = css(db ? "--rule" : "--rule2");
    context.fillRect(LEFT, y(db), width - LEFT - RIGHT, 1);
    context.fillStyle = css("--soft");
    context.fillText(db ? `−${db}` : "0 dB", LEFT - 5, y(db) + 4);
  }
  if (!traces.length) {
    context.textAlign = "left";
    context.font = "400 13px 'Atkinson Hyperlegible Next'";
    context.fillText("No move yet: the gain stays at 0 dB.", LEFT + 8, y(span / 2));
    return;
  }
  for (const [move, trace] of traces) {
    const chosen = move === state.view.move;
    context.beginPath();
    trace.most.forEach((db, i) => {
      const at = x(data.start_s + i / data.trace_rate);
      if (i) context.lineTo(at, y(db));
      else context.moveTo(at, y(db));
    });
    context.strokeStyle = css("--ink");
    context.lineWidth = chosen ? 1.8 : 0.9;
    context.stroke();
    if (!chosen) continue;
    context.lineTo(x(data.start_s + trace.most.length / data.trace_rate), y(0));
    context.lineTo(x(data.start_s), y(0));
    context.globalAlpha = 0.1;
    context.fillStyle = css("--ink");
    context.fill();
    context.globalAlpha = 1;
  }
}

function wire() {
  data = null;
  if (!plot()) return;
  new ResizeObserver(redraw).observe(plot());
  load();
}

export function start() {
  on("view", wire);
  on("changed", soon);
  on("loop", soon);
  on("sheet", redraw);
  on("playhead", point);
}
