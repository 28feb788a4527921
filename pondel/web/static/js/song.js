// What is known of the song: hits on an outline, tempo, sections.
import { about, getJSON, say } from "./api.js";
import { dragging } from "./drag.js";
import { edit } from "./edits.js";
import { reload } from "./stage.js";
import { clear, readout, sized } from "./plots.js";
import { bar, barAt, barLines, barWord, barsBeats, beat, nearestBeat, secondOfBar } from "./beats.js";
import { on, state } from "./state.js";
import { typedNumber } from "./units.js";

const NEAR_PX = 5;
const BORDER_PX = 12;
let data = null;
let shown = null;
let cursor = null;
let drag = null;
let shownPart = "";

const hitsBox = () => document.querySelector('[data-plot="hits"]');
const sectionsBox = () => document.querySelector('[data-plot="sections"]');

async function load() {
  const box = hitsBox();
  // A part that was taken out has none; the screen is about to be drawn without it.
  if (!box || !state.facts.parts.some(({ id }) => id === box.dataset.part)) return;
  try {
    data = await getJSON(about("intake/outline", { part: box.dataset.part }));
    shown ??= { start_s: data.start_s, end_s: data.start_s + data.seconds };
    redraw();
    if (cursor != null) readHit(cursor, "Enter");
  } catch (error) {
    box.textContent = error.message;
  }
}

function canvasOf(box) {
  let canvas = box.querySelector("canvas");
  if (!canvas) {
    canvas = document.createElement("canvas");
    canvas.setAttribute("aria-hidden", "true");
    box.replaceChildren(canvas);
  }
  return canvas;
}

const scale = (width) => (s) => ((s - shown.start_s) / (shown.end_s - shown.start_s)) * width;

function redraw() {
  const box = hitsBox();
  if (!box || !data) return;
  const { context, width, height, css } = sized(canvasOf(box));
  clear(context, width, height);
  const x = scale(width);
  const ink = css(`--ink-${box.dataset.ink}`);
  context.fillStyle = css("--rule2");
  const lines = barLines(shown.start_s, shown.end_s);
  const every = Math.max(1, Math.ceil(lines.length / 24));
  context.font = "500 10px 'Martian Mono'";
  for (const { bar: number, s, beats } of lines) {
    if ((number - 1) % every) continue;
    if (lines.length <= 12 && state.facts.tempo_known) {
      context.fillStyle = css("--rule");
      for (const at of beats) context.fillRect(x(at), 12, 1, height - 24);
    }
    context.fillStyle = css("--rule2");
    context.fillRect(x(s), 12, 1, height - 12);
    context.fillStyle = css("--soft");
    const word = state.facts.tempo_known ? String(number) : barWord(number);
    // A word that would be cut at the edge would be another bar's.
    if (x(s) + 3 + context.measureText(word).width <= width) context.fillText(word, x(s) + 3, height - 2);
  }
  const peak = Math.max(0.02, ...data.columns.map(([low, high]) => Math.max(-low, high)));
  const middle = 12 + (height - 24) / 2;
  context.fillStyle = ink;
  context.globalAlpha = 0.5;
  const step = data.seconds / data.columns.length;
  data.columns.forEach(([low, high], i) => {
    const left = x(data.start_s + i * step);
    if (left > width || left < -20) return;
    const size = (height - 26) / 2 / peak;
    context.fillRect(left, middle - high * size, Math.max(0.8, x(data.start_s + (i + 1) * step) - left), Math.max(1, (high - low) * size));
  });
  context.globalAlpha = 1;
  for (const hit of data.hits_s) {
    const added = data.added_s.some((t) => Math.abs(t - hit) < 0.002);
    context.fillRect(x(hit) - 0.5, 9, 1, height - 21);
    context.beginPath();
    context.moveTo(x(hit) - 4, 1);
    context.lineTo(x(hit) + 4, 1);
    context.lineTo(x(hit), 9);
    context.closePath();
    if (added) context.stroke();
    else context.fill();
  }
  if (drag) {
    context.fillStyle = css("--mark");
    context.globalAlpha = 0.6;
    context.fillRect(Math.min(x(drag.from), x(drag.to)), 0, Math.abs(x(drag.to) - x(drag.from)), height);
    context.globalAlpha = 1;
  }
  if (cursor != null) {
    context.fillStyle = css("--needle");
    context.fillRect(x(cursor) - 1, 0, 2, height);
  }
}

/** The hit that lies nearest to a time, if it is no further than Pondel takes two hits for one, or `reach_s`. */
function hitNear(at_s, reach_s = 0) {
  const away = (hit) => Math.abs(hit - at_s);
  const [nearest] = data.hits_s.toSorted((one, other) => away(one) - away(other));
  return nearest != null && away(nearest) <= Math.max(data.near_s, reach_s) ? nearest : null;
}

/** What a click or Enter at a time does, in words. */
function readHit(at_s, key, reach_s = 0) {
  const hit = hitNear(at_s, reach_s);
  const where = hit ?? at_s;
  const bar = state.facts.tempo_known ? ` · bar ${barsBeats(where)}` : "";
  readout(hitsBox(), `${where.toFixed(3)} s${bar} · ${hit == null ? `no hit: ${key} adds one` : `hit: ${key} removes it`}`);
}

async function toggle(at_s, reach_s = 0) {
  try {
    await edit({ op: "toggle hit", part: hitsBox().dataset.part, at_s: hitNear(at_s, reach_s) ?? at_s });
    await reload();
  } catch (error) {
    say(error.message);
  }
}

function wireHits() {
  const box = hitsBox();
  data = null;
  drag = null;
  if (box?.dataset.part !== shownPart) shown = cursor = null;
  shownPart = box?.dataset.part;
  if (!box) return;
  const perPixel = () => (shown.end_s - shown.start_s) / box.clientWidth;
  const at = (event) => shown.start_s + (event.clientX - box.getBoundingClientRect().left) * perPixel();
  dragging(box, {
    pressed: (event) => data && { from: at(event), zoom: event.shiftKey },
    moved: (event, { from, zoom }) => {
      if (!zoom) return;
      drag = { from, to: at(event) };
      redraw();
    },
    released: (event, { from, zoom }, far) => {
      const to = at(event);
      drag = null;
      if (zoom && Math.abs(to - from) > 0.05) shown = { start_s: Math.min(from, to), end_s: Math.max(from, to) };
      else if (!zoom && !far) toggle(to, NEAR_PX * perPixel());
      redraw();
    },
    givenUp: () => {
      drag = null;
      redraw();
    },
  });
  box.onpointermove = (event) => data && !event.buttons && readHit(at(event), "a click", NEAR_PX * perPixel());
  box.onpointerleave = () => readout(box, null);
  box.ondblclick = (event) => {
    if (!event.shiftKey) return;
    shown = { start_s: data.start_s, end_s: data.start_s + data.seconds };
    redraw();
  };
  box.onkeydown = (event) => {
    if (!data) return;
    const next = (forward) => (forward ? data.hits_s.find((hit) => hit > (cursor ?? -1) + 0.001) : data.hits_s.findLast((hit) => hit < (cursor ?? 1e9) - 0.001));
    if (event.key === "ArrowRight" || event.key === "ArrowLeft") {
      const right = event.key === "ArrowRight";
      cursor = event.shiftKey ? Math.max(0, (cursor ?? 0) + (right ? 0.01 : -0.01)) : (next(right) ?? cursor);
    } else if (event.key === "PageDown" || event.key === "PageUp") cursor = Math.max(0, (cursor ?? 0) + (event.key === "PageDown" ? 1 : -1) * beat(cursor ?? 0));
    else if (event.key === "Enter" && cursor != null) toggle(cursor);
    else if (event.key === "Escape") shown = { start_s: data.start_s, end_s: data.start_s + data.seconds };
    else return;
    event.preventDefault();
    redraw();
    if (cursor != null) readHit(cursor, "Enter");
  };
  new ResizeObserver(redraw).observe(box);
  load();
}

/** The rows of the sections' table as the server wants them; a time is kept unless it was typed. */
function sectionRows() {
  return [...document.querySelectorAll("#sections tbody tr")].map((row) => {
    const typed = (name, kept) => {
      const field = row.querySelector(`[name="${name}"]`);
      return field.value === field.defaultValue ? Number(kept) : secondOfBar(typedNumber(field.value));
    };
    return { id: row.dataset.id || null, name: row.querySelector('[name="name"]').value, start_s: typed("start", row.dataset.start), end_s: typed("end", row.dataset.end) };
  });
}

async function sendSections(sections) {
  try {
    await edit({ op: "set sections", sections });
    await reload();
  } catch (error) {
    say(error.message);
  }
}

function wireSections() {
  const table = document.getElementById("sections");
  if (!table) return;
  for (const field of table.querySelectorAll("input")) field.onchange = () => sendSections(sectionRows());
  for (const button of table.querySelectorAll("[data-section]")) {
    button.onclick = () => {
      const rows = sectionRows();
      if (button.dataset.section === "remove") {
        rows.splice([...table.querySelectorAll("tbody tr")].indexOf(button.closest("tr")), 1);
      } else {
        const last = Math.max(0, ...rows.map((row) => row.end_s));
        const start_s = last < state.facts.seconds - bar(last) ? last : state.loop.start_s;
        const [first, eighth] = [1, 8].map((bars) => secondOfBar(barAt(start_s) + bars));
        rows.push({ id: null, name: `Section ${rows.length + 1}`, start_s, end_s: Math.min(eighth, Math.max(state.facts.seconds, first)) });
      }
      sendSections(rows);
    };
  }
  drawSections();
  wireBorders();
}

function drawSections(moved = null) {
  const box = sectionsBox();
  if (!box) return;
  const { context, width, height, css } = sized(canvasOf(box));
  clear(context, width, height);
  const x = (s) => (s / state.facts.seconds) * width;
  context.font = "600 11px 'Atkinson Hyperlegible Next'";
  (moved ?? state.facts.sections).forEach((section, i) => {
    context.fillStyle = i % 2 ? css("--rule") : css("--mark");
    context.fillRect(x(section.start_s), 4, x(section.end_s) - x(section.start_s), height - 8);
    context.fillStyle = css("--ink");
    context.fillRect(x(section.start_s), 2, 2, height - 4);
    context.fillRect(x(section.end_s) - 2, 2, 2, height - 4);
    context.fillText(section.name, x(section.start_s) + 7, height / 2 + 4, Math.max(0, x(section.end_s) - x(section.start_s) - 12));
  });
}

/** Drag a border: it snaps to beats, and a border shared by two sections moves for both. */
function wireBorders() {
  const box = sectionsBox();
  const at = (event) => {
    const area = box.getBoundingClientRect();
    return Math.min(1, Math.max(0, (event.clientX - area.left) / area.width)) * state.facts.seconds;
  };
  const borderAt = (event) => {
    const near = (BORDER_PX / box.clientWidth) * state.facts.seconds;
    const borders = state.facts.sections.flatMap((section) => [section.start_s, section.end_s]);
    return borders.find((s) => Math.abs(s - at(event)) < near);
  };
  const shifted = (event, border) => {
    const shift = (s) => (Math.abs(s - border) < 0.01 ? nearestBeat(at(event)) : s);
    return state.facts.sections.map((section) => ({ ...section, start_s: shift(section.start_s), end_s: shift(section.end_s) }));
  };
  box.onpointermove = (event) => (box.style.cursor = borderAt(event) == null ? "" : "ew-resize");
  dragging(box, {
    pressed: (event) => {
      const border = borderAt(event);
      return border == null ? null : { border };
    },
    moved: (event, { border }) => drawSections(shifted(event, border)),
    released: (event, { border }, far) => {
      const moved = shifted(event, border);
      if (far && moved.every((section) => section.end_s > section.start_s)) sendSections(moved);
      else drawSections();
    },
    givenUp: () => drawSections(),
  });
}

const taps = [];
async function tap() {
  try {
    const now = performance.now();
    if (taps.length && now - taps.at(-1) > 2500) taps.length = 0;
    taps.push(now);
    if (taps.length < 5) return say(`${5 - taps.length} more`, 2);
    const gap = (taps.at(-1) - taps[0]) / (taps.length - 1);
    await edit({ op: "set session", field: "tempo_bpm", value: Number((60000 / gap).toFixed(1)) }, "tap-tempo");
    const field = document.querySelector('[data-target*="tempo_bpm"]');
    if (field) field.value = `${state.facts.tempo_bpm} bpm`;
  } catch (error) {
    say(error.message);
  }
}

export function start() {
  document.addEventListener("click", ({ target }) => {
    const button = target instanceof Element && target.closest("[data-tempo]");
    if (button) tap();
  });
  on("view", () => {
    wireHits();
    wireSections();
  });
  on("changed", load);
  on("sheet", () => {
    redraw();
    drawSections();
  });
}
