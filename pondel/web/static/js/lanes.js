// Lanes: each part as a ridge along the frequency axis, hatched where others hide it.
import { about, getJSON, say } from "./api.js";
import { dragging } from "./drag.js";
import { edit } from "./edits.js";
import { fragment, go, reload } from "./stage.js";
import { typedHz } from "./units.js";
import * as deck from "./deck.js";
import { hzWord, nearest, within } from "./axis.js";
import { HATCH_LEAST, axisNow, draw, frequencyMarks, hatchPatterns, readout, spreadLows, zoneBand } from "./plots.js";
import { question } from "./questions.js";
import { setLoop } from "./loop.js";
import { on, state, tell } from "./state.js";
import { told } from "./told.js";

let data = null;
let cursor = null;

const $ = (selector) => document.querySelector(selector);
const box = () => $('[data-plot="lanes"]');
const line = () => $("#zone-line");
const percent = (share) => `${Math.round(share * 100)} %`;
const known = (id) => data?.families[id] ?? state.facts.parts.find((part) => part.id === id);
const nameOf = (id) => known(id)?.name ?? id;
const inkOf = (id) => known(id)?.ink ?? 1;

/** Where and how the song is looked at, kept from visit to visit. */
const LOOK_KEPT = () => `pondel-look-${state.facts.id}`;

function readLook() {
  const form = new FormData($("#look"));
  const open = state.look.open ?? JSON.parse(localStorage.getItem(LOOK_KEPT()) ?? "{}").open ?? [];
  state.look = { where: form.get("where"), role: form.get("role"), on_hits: form.get("on_hits") ? 1 : null, rows: form.get("rows") || null, open };
  state.picture = String(form.get("picture"));
  localStorage.setItem(LOOK_KEPT(), JSON.stringify({ ...state.look, picture: state.picture }));
}

function showLook() {
  const kept = JSON.parse(localStorage.getItem(LOOK_KEPT()) ?? "{}");
  const form = $("#look");
  for (const name of ["where", "role", "rows"]) {
    if (form[name] && [...form[name].options].some((option) => option.value === kept[name])) form[name].value = kept[name];
  }
  form.on_hits.checked = Boolean(kept.on_hits);
  if (kept.picture) form.picture.value = kept.picture;
  readLook();
  showPicture();
}

function showPicture() {
  for (const one of document.querySelectorAll("[data-picture]")) one.hidden = one.dataset.picture !== state.picture;
}

let again = 0;
const { now: load, soon } = question(
  async (signal) => {
    if (!box()) return;
    clearTimeout(again);
    facts("lanes/fights", "#fights").then(showWorst);
    if (state.picture === "pair") facts("lanes/pair", "#pair-facts");
    data = await getJSON(about("lanes/ridges"), signal);
    if (!state.view.zone && data.zone) chooseZone(data.zone.low_hz, data.zone.high_hz);
    else redraw();
    if (data.adding_up && !data.listening) again = setTimeout(load, 900);
  },
  (message) => ($("#lanes-line").textContent = message),
  350,
);

async function facts(what, target) {
  const place = $(target);
  if (!place) return;
  const below = document.getElementById("lows-below")?.value;
  try {
    const wasListening = place.querySelector("[data-again]");
    await fragment(about(what, { below }), place);
    if (wasListening && !place.querySelector("[data-again]")) {
      const worst = place.querySelector("ol .fight a")?.textContent;
      told(`Whole song heard: ${worst ? `${worst} most` : "no part hides another"}`);
    }
    if (place.querySelector("[data-again]")) {
      clearTimeout(again);
      again = setTimeout(load, 900);
    }
  } catch (error) {
    say(error.message);
  }
}

/** Where nobody chose a pair, the one that fights worst is shown once it is known. */
function showWorst() {
  const worst = /** @type {?HTMLAnchorElement} */ ($("#fights .fight a[aria-current]") ? null : $("#fights ol .fight a"));
  if (state.view.is_chosen || !worst || state.view.stage !== "lanes") return;
  state.view.is_chosen = true;
  go(worst.href, { push: false }).catch((error) => say(error.message));
}

function redraw() {
  if (!box() || !data) return;
  hatchPatterns();
  const where = { song: "Whole song", loop: "The loop" }[data.is_loop ? "loop" : state.look.where] ?? "The section";
  const level = { quiet: "quiet, 60 dB SPL", loud: "loud, 95 dB SPL" }[state.level] ?? "normal level";
  $("#lanes-line").textContent = `${where}${state.look.on_hits ? ", on hits" : ""}, ${level} · height: loudness per band as the ear hears it · hatching in the ink of the part that hides`;
  showRows();
  for (const lane of data.lanes) {
    const row = box().querySelector(`[data-lane="${CSS.escape(lane.id)}"]`);
    if (!row) continue;
    row.querySelector("[data-lane-clear]").textContent = lane.clear;
    row.querySelector("[data-lane-stands]").textContent = lane.stands;
    row.title = `${nameOf(lane.id)}: a quarter of its loudness stands ${lane.clear} or more above what the rest masks (${lane.stands}); ${lane.beside} beside an equal share; ${percent(lane.share)} hidden; ${lane.sone.toFixed(1)} sone by itself`;
    ridge(row.querySelector("[data-lane-ridge]"), lane);
  }
  axis();
}

/** Which rows there are: of the role in view, families folded or open, their parts when open. */
function showRows() {
  const { role, rows, open } = state.look;
  const folded = new Set();
  for (const row of box().querySelectorAll("[data-members]")) {
    const id = row.dataset.lane;
    const isOpen = open.includes(id);
    row.hidden = id.split(":")[0] !== rows || (Boolean(role) && id !== `role:${role}`);
    if (!row.hidden && !isOpen) for (const part of row.dataset.members.split(" ")) folded.add(part);
    const button = row.querySelector("[data-unfold]");
    button.textContent = isOpen ? "▾" : "▸";
    button.setAttribute("aria-expanded", String(isOpen));
    row.classList.toggle("opened", isOpen);
    if (isOpen) row.querySelector("[data-lane-ridge]").replaceChildren();
    if (isOpen) for (const what of ["clear", "stands"]) row.querySelector(`[data-lane-${what}]`).textContent = "";
  }
  for (const row of box().querySelectorAll("[data-role]")) {
    row.hidden = (Boolean(role) && row.dataset.role !== role) || folded.has(row.dataset.lane);
  }
}

function unfold(id) {
  const { open } = state.look;
  state.look.open = open.includes(id) ? open.filter((one) => one !== id) : [...open, id];
  localStorage.setItem(LOOK_KEPT(), JSON.stringify({ ...state.look, picture: state.picture }));
  load();
}

function ridge(place, lane) {
  const { width, height } = place.getBoundingClientRect();
  if (width < 40 || height < 10) return;
  const { share } = axisNow();
  const x = (hz) => share(within(hz)) * width;
  const base = height - 1;
  const y = (value) => base - value * (height - 5);
  const svg = draw("svg", { viewBox: `0 0 ${width} ${height}`, "aria-hidden": "true" });
  frequencyMarks(svg, { x, top: 0, base: height, words: 0 });
  zones(svg, x, height, lane.id);
  const points = data.hz.map((hz, i) => `${x(hz).toFixed(1)} ${y(lane.alone[i]).toFixed(1)}`);
  const area = `M${x(data.hz[0])} ${base}L${points.join("L")}L${x(data.hz.at(-1))} ${base}Z`;
  svg.append(draw("path", { d: area, class: "under" }));
  hatch(svg, lane, x, area);
  const dash = ["", "7 4", "2 3", "9 3 2 3"][(state.facts.parts.findIndex((p) => p.id === lane.id) + 4) % 4];
  svg.append(draw("path", { d: `M${points.join("L")}`, class: "curve", "stroke-width": 1.6, "stroke-dasharray": dash }));
  svg.append(draw("line", { x1: 0, x2: width, y1: base, y2: base, class: "grid-line strong" }));
  if (cursor != null) svg.append(draw("line", { x1: x(data.hz[cursor]), x2: x(data.hz[cursor]), y1: 0, y2: height, class: "cursor-line" }));
  place.replaceChildren(svg);
}

/** The chosen zone as a marked band; decided ones of this part as a line at the foot. */
function zones(svg, x, height, part) {
  const { zone } = state.view;
  if (zone) zoneBand(svg, { low: x(zone.low_hz), high: x(zone.high_hz), top: 0, base: height });
  for (const kept of state.facts.zones ?? []) {
    if (kept.leads !== part) continue;
    svg.append(draw("line", { x1: x(kept.low_hz), x2: x(kept.high_hz), y1: height - 2, y2: height - 2, stroke: "var(--c)", "stroke-width": 4 }));
  }
}

/** Runs of bands with the same main hider and density, each hatched in the hider's ink. */
function hatch(svg, lane, x, area) {
  const id = `clip-${lane.id}`;
  const clip = draw("clipPath", { id });
  clip.append(draw("path", { d: area }));
  const defs = draw("defs");
  defs.append(clip);
  const group = draw("g", { "clip-path": `url(#${CSS.escape(id)})` });
  const hiders = Object.entries(lane.by);
  const kinds = data.hz.map((_, i) => {
    if (lane.alone[i] < 0.01) return "";
    const lost = hiders.reduce((sum, [, by]) => sum + by[i], 0) / lane.alone[i];
    const level = HATCH_LEAST.findIndex((least) => lost >= least);
    if (level < 0) return "";
    const [main] = hiders.reduce((best, one) => (one[1][i] > best[1][i] ? one : best));
    return `${inkOf(main)}-${level}`;
  });
  const mains = kinds.map((kind, i) => (kind ? hiders.reduce((best, one) => (one[1][i] > best[1][i] ? one : best))[0] : ""));
  const edge = (i) => (i === 0 ? 20 : i < data.hz.length ? Math.sqrt(data.hz[i] * data.hz[i - 1]) : 20000);
  for (const [from, to] of runs(kinds)) {
    group.append(draw("rect", { x: x(edge(from)), width: Math.max(0, x(edge(to)) - x(edge(from))), y: 0, height: "100%", fill: `url(#ink-hatch-${kinds[from]})` }));
  }
  svg.append(defs, group);
  for (const [from, to] of runs(mains)) hiderTag(svg, lane, mains[from], { from, to, left: x(edge(from)), right: x(edge(to)) }, x);
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

const TAG_PX = 24;

/** Who hides in a run: its tag, where the ridge is highest there, if there is room. */
function hiderTag(svg, lane, hider, { from, to, left, right }, x) {
  if (right - left < TAG_PX) return;
  let top = from;
  for (let i = from; i < to; i++) if (lane.alone[i] > lane.alone[top]) top = i;
  if (lane.alone[top] < 0.12) return;
  const at = Math.min(right - TAG_PX / 2, Math.max(left + TAG_PX / 2, x(data.hz[top])));
  svg.append(draw("text", { x: at, y: "90%", class: `hider ink-${inkOf(hider)}`, "text-anchor": "middle" }, known(hider)?.tag ?? ""));
}

function axis() {
  const place = box().querySelector("[data-lane-axis]");
  const { width, height } = place.getBoundingClientRect();
  const svg = draw("svg", { viewBox: `0 0 ${width} ${height}`, "aria-hidden": "true" });
  const { share } = axisNow();
  frequencyMarks(svg, { x: (hz) => share(hz) * width, top: 0, base: 0, words: 13, first: "start" });
  place.replaceChildren(svg);
}

/** What lies at the cursor, in words. */
function read() {
  if (cursor == null) return readout(box(), null);
  const hz = data.hz[cursor];
  const losses = data.lanes.flatMap((lane) =>
    Object.entries(lane.by)
      .map(([by, lost]) => ({ lane, by, share: lane.alone[cursor] > 0.02 ? lost[cursor] / lane.alone[cursor] : 0 }))
      .filter(({ share }) => share >= 0.1),
  );
  losses.sort((a, b) => b.share - a.share);
  const words = losses.slice(0, 3).map(({ lane, by, share }) => `${nameOf(by)} hides ${percent(share)} of ${nameOf(lane.id)}`);
  readout(box(), `${hzWord(hz)} · ${words.length ? words.join(" · ") : "nothing hidden by much"}`);
}

function hzAt(event) {
  const ridgeBox = box().querySelector("[data-lane-ridge]").getBoundingClientRect();
  return within(axisNow().hz((event.clientX - ridgeBox.left) / ridgeBox.width));
}

function chooseZone(low_hz, high_hz) {
  state.view.zone = { low_hz: Number(low_hz.toFixed(1)), high_hz: Number(high_hz.toFixed(1)) };
  showZone();
  redraw();
  tell("zone");
}

/** The edges that were typed; where they were those of a kept zone, that zone has them now. */
async function typedZone(low_hz, high_hz) {
  const kept = keptZone();
  chooseZone(low_hz, high_hz);
  if (!kept) return;
  try {
    await edit({ op: "set zone", zone: kept.id, ...state.view.zone });
    await reload();
  } catch (error) {
    say(error.message);
    chooseZone(kept.low_hz, kept.high_hz);
  }
}

/** The pair's kept zone that has the edges in view. */
function keptZone() {
  const { zone, leader, yielder } = state.view;
  const both = [leader, yielder];
  const isPair = ({ leads, gives_way }) => both.includes(leads) && gives_way.some((one) => both.includes(one));
  const isSame = (one) => Math.abs(one.low_hz - zone.low_hz) < 0.06 && Math.abs(one.high_hz - zone.high_hz) < 0.06;
  return zone && state.facts.zones.find((one) => isPair(one) && isSame(one));
}

function showZone() {
  const { zone } = state.view;
  if (!line() || !zone) return;
  line().low_hz.value = hzWord(zone.low_hz);
  line().high_hz.value = hzWord(zone.high_hz);
}

function wireZone() {
  const form = line();
  if (!form) return;
  form.onsubmit = (event) => event.preventDefault();
  for (const field of [form.low_hz, form.high_hz]) {
    field.onchange = () => {
      const [low, high] = [typedHz(form.low_hz.value), typedHz(form.high_hz.value)];
      if (low >= 10 && high > low && high <= 24000) return typedZone(low, high);
      say("A zone runs from a lower to a higher frequency, such as 40 Hz to 160 Hz.");
      showZone();
    };
  }
  for (const button of form.querySelectorAll("[data-decide]")) {
    button.onclick = async () => {
      const { zone } = state.view;
      if (!zone) return say("Draw or type the zone first.");
      try {
        await edit({ op: "decide", leads: button.dataset.decide, gives_way: button.dataset.yields, ...zone });
        await reload();
      } catch (error) {
        say(error.message);
      }
    };
  }
}

function wirePointer() {
  const place = box().querySelector(".lanes-rows");
  const put = (zone) => {
    if (zone) return chooseZone(zone.low_hz, zone.high_hz);
    state.view.zone = zone;
    showZone();
    redraw();
  };
  dragging(place, {
    pressed: (event) => (event.target.closest("[data-lane-ridge]") && data ? { hz: hzAt(event), before: state.view.zone } : null),
    moved: (event, { hz }) => {
      const [low, high] = [hz, hzAt(event)].sort((a, b) => a - b);
      if (high > low * 1.01) chooseZone(low, high);
    },
    givenUp: ({ before }, far) => far && put(before),
  });
  place.addEventListener("pointermove", (event) => {
    if (!data || event.buttons) return;
    cursor = nearest(data.hz, hzAt(event));
    redraw();
    read();
  });
  place.addEventListener("pointerleave", () => {
    cursor = null;
    redraw();
    read();
  });
  box().addEventListener("keydown", (event) => {
    const steps = { ArrowLeft: -1, ArrowRight: 1, PageDown: -8, PageUp: 8 };
    if (event.key === "Escape") cursor = null;
    else if (event.key in steps && data) cursor = Math.min(data.hz.length - 1, Math.max(0, (cursor ?? 20) + steps[event.key]));
    else return;
    event.preventDefault();
    redraw();
    read();
  });
}

/** Play the worst two bars: the pair alone, and after one round only the zone. */
async function hearWorst() {
  try {
    const found = await getJSON(about("lanes/worst"));
    chooseZone(found.low_hz, found.high_hz);
    setLoop(found.start_s, found.end_s);
    deck.hear("pair");
    if (!deck.player.playing) await deck.toggle();
    const mine = ++turn;
    setTimeout(() => {
      if (mine === turn && deck.player.playing && state.hear === "pair" && state.view.stage === "lanes") deck.hear("zone");
    }, (found.end_s - found.start_s) * 1000);
  } catch (error) {
    say(error.message);
  }
}
let turn = 0;

function clicks(event) {
  if (event.target.closest("[data-worst]")) hearWorst();
  const fold = event.target.closest("[data-unfold]");
  if (fold) unfold(fold.dataset.unfold);
  const take = event.target.closest("[data-zone-low]");
  if (take) chooseZone(Number(take.dataset.zoneLow), Number(take.dataset.zoneHigh));
}

function wire() {
  data = null;
  cursor = null;
  if (!box()) return;
  showLook();
  showZone();
  $("#look").onchange = (event) => {
    if (event.target.id === "spread") return;
    readLook();
    showPicture();
    tell("look");
    load();
  };
  $("#look").onsubmit = (event) => event.preventDefault();
  const spread = document.getElementById("spread");
  spread.checked = spreadLows();
  spread.onchange = () => {
    localStorage.setItem("pondel-spread", spread.checked ? "1" : "0");
    redraw();
    tell("spread");
  };
  wireZone();
  wirePointer();
  new ResizeObserver(redraw).observe(box());
  load();
}

export function start() {
  document.addEventListener("click", clicks);
  document.addEventListener("change", ({ target }) => target instanceof Element && target.id === "lows-below" && facts("lanes/pair", "#pair-facts"));
  on("view", wire);
  on("changed", soon);
  on("level", soon);
  on("loop", () => (data?.is_loop || state.picture === "pair") && soon());
  on("sheet", redraw);
}
