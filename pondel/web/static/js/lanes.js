// Lanes: each part as a ridge along the frequency axis, hatched where others hide it.
import { about, getInTurn, say } from "./api.js";
import { dragging } from "./drag.js";
import { edit } from "./edits.js";
import { fragment, go, reload } from "./stage.js";
import { typedHz } from "./units.js";
import * as deck from "./deck.js";
import { hzWord, nearest, within } from "./axis.js";
import { inView } from "./inview.js";
import { axisNow, draw, emptied, frequencyMarks, readout, spreadLows, write } from "./plots.js";
import { question } from "./questions.js";
import { ridge } from "./ridge.js";
import { setLoop } from "./loop.js";
import { on, state, tell } from "./state.js";
import { told } from "./told.js";

let data = null;
let cursor = null;
/** Rows by what they stand for. @type {Map<string, HTMLElement>} */
let rows = new Map();
/** @type {Map<string, any>} */
let lanes = new Map();

const $ = (selector) => document.querySelector(selector);
const box = () => $('[data-plot="lanes"]');
const line = () => $("#zone-line");
const axisPlace = () => /** @type {?HTMLElement} */ (box()?.querySelector("[data-lane-axis]"));
const AXIS_PX = 17;
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

const AGAIN_MS = 900;
const AFTER_FAULT_MS = 4000;
let again = 0;

/** Whether something shown was answered for now, as each such answer says of itself. */
const isForNow = () => Boolean(data?.for_now || $("#fights [data-again], #pair-facts [data-again]"));

/**
 * Everything once more while something is answered for now. It is asked when all answers are in: a
 * page that always waits for one keeps what it waits for from getting on.
 */
const { now: load, soon } = question(
  async (signal) => {
    if (!box()) return;
    clearTimeout(again);
    const told = [facts("lanes/fights", "#fights")];
    if (state.picture === "pair") told.push(facts("lanes/pair", "#pair-facts"));
    let isWhole = false;
    try {
      await showRidges(signal);
      isWhole = true;
    } finally {
      const areTold = (await Promise.all(told)).every(Boolean);
      const wait_ms = isWhole && areTold ? AGAIN_MS : AFTER_FAULT_MS;
      if (!signal.aborted && isForNow()) again = setTimeout(load, wait_ms);
    }
  },
  (message) => ($("#lanes-line").textContent = message),
  350,
);

async function showRidges(signal) {
  data = await getInTurn(about("lanes/ridges"), signal);
  lanes = new Map(data.lanes.map((lane) => [lane.id, lane]));
  measureZone(data.zone);
  redraw();
}

/** Fill a place with its facts; false where that failed, which is said. */
async function facts(what, target) {
  const place = $(target);
  if (!place) return true;
  const below = document.getElementById("lows-below")?.value;
  try {
    const wasForNow = place.querySelector("[data-again]");
    await fragment(about(what, { below }), place);
    if (wasForNow && target === "#fights" && !place.querySelector("[data-again]")) tellWorst(place);
    if (target === "#fights") showWorst();
    return true;
  } catch (error) {
    say(error.message);
    return false;
  }
}

function tellWorst(fights) {
  const worst = fights.querySelector("ol .fight a")?.textContent;
  told(`Whole song heard: ${worst ? `${worst} most` : "no part hides another"}`);
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
  const where = { song: "Whole song", loop: "The loop" }[data.is_loop ? "loop" : state.look.where] ?? "The section";
  const level = { quiet: "quiet, 60 dB SPL", loud: "loud, 95 dB SPL" }[state.level] ?? "normal level";
  write($("#lanes-line"), `${where}${state.look.on_hits ? ", on hits" : ""}, ${level} · height: loudness per band as the ear hears it · hatching in the ink of the part that hides`);
  showRows();
  for (const [id, row] of rows) tellRow(row, lanes.get(id));
  ridges.draw();
}

const ridges = inView(
  (place, { width, height }) => {
    const lane = lanes.get(/** @type {HTMLElement} */ (place.parentElement).dataset.lane);
    if (!lane || width < 40 || height < 10) return place.replaceChildren();
    const kept = (state.facts.zones ?? []).filter((one) => one.leads === lane.id);
    const dash = state.facts.parts.findIndex((part) => part.id === lane.id) + 4;
    const tagOf = (id) => known(id)?.tag ?? "";
    const svg = emptied(place, { width, height }, { "aria-hidden": "true" });
    ridge(svg, lane, { width, height }, { hz: data.hz, zone: state.view.zone, kept, dash, inkOf, tagOf });
    if (!svg.isConnected) place.append(svg);
  },
  () => {
    axis();
    point();
  },
);

/** The figures of a row; none where nothing of it is heard, or its parts have rows of their own. */
function tellRow(row, lane) {
  write(row.querySelector("[data-lane-clear]"), lane?.clear ?? "");
  write(row.querySelector("[data-lane-stands]"), lane?.stands ?? "");
  const title = lane
    ? `${nameOf(lane.id)}: a quarter of its loudness stands ${lane.clear} or more above what the rest masks (${lane.stands}); ${lane.beside} beside an equal share; ${percent(lane.share)} hidden; ${lane.sone.toFixed(1)} sone by itself`
    : "";
  if (row.title !== title) row.title = title;
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

/** The axis below the rows, as wide as their ridges. */
function axis() {
  const place = axisPlace();
  const width = ridges.width();
  if (!place || !width) return;
  place.style.width = `${width}px`;
  const svg = draw("svg", { viewBox: `0 0 ${width} ${AXIS_PX}`, "aria-hidden": "true" });
  const { share } = axisNow();
  frequencyMarks(svg, { x: (hz) => share(hz) * width, top: 0, base: 0, words: 13, first: "start" });
  place.replaceChildren(svg);
}

/** The line at the cursor, across all rows. */
function point() {
  const line = /** @type {?HTMLElement} */ (box()?.querySelector("[data-lane-cursor]"));
  if (!line) return;
  line.hidden = cursor == null;
  if (cursor == null) return;
  line.style.marginLeft = `${axisNow().share(within(data.hz[cursor])) * ridges.width()}px`;
}

/** What lies at the cursor, pointed at and in words. */
function read() {
  point();
  if (cursor == null) return readout(box(), null);
  const losses = data.lanes.flatMap((lane) =>
    Object.entries(lane.by).flatMap(([by, shares]) => shares.filter(([place]) => place === cursor).map(([, share]) => ({ lane, by, share }))),
  );
  losses.sort((a, b) => b.share - a.share);
  const words = losses.slice(0, 3).map(({ lane, by, share }) => `${nameOf(by)} hides ${percent(share)} of ${nameOf(lane.id)}`);
  readout(box(), `${hzWord(data.hz[cursor])} · ${words.length ? words.join(" · ") : "nothing hidden by much"}`);
}

function hzAt(event) {
  const { left, width } = axisPlace().getBoundingClientRect();
  return within(axisNow().hz((event.clientX - left) / width));
}

function takeZone(low_hz, high_hz) {
  state.view.zone = { low_hz: Number(low_hz.toFixed(1)), high_hz: Number(high_hz.toFixed(1)) };
  showZone();
  tell("zone");
}

/** The zone that was taken from what was measured last. @type {any} */
let measured = null;

/** The zone as it is measured now, unless another one was chosen: the loop's until the song is known. */
function measureZone(found) {
  if (!found || (state.view.zone && state.view.zone !== measured)) return;
  takeZone(found.low_hz, found.high_hz);
  measured = state.view.zone;
}

function chooseZone(low_hz, high_hz) {
  takeZone(low_hz, high_hz);
  ridges.draw();
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
    ridges.draw();
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
    read();
  });
  place.addEventListener("pointerleave", () => {
    cursor = null;
    read();
  });
  box().addEventListener("keydown", (event) => {
    const steps = { ArrowLeft: -1, ArrowRight: 1, PageDown: -8, PageUp: 8 };
    if (event.key === "Escape") cursor = null;
    else if (event.key in steps && data) cursor = Math.min(data.hz.length - 1, Math.max(0, (cursor ?? 20) + steps[event.key]));
    else return;
    event.preventDefault();
    read();
  });
}

/** Play the worst two bars: the pair alone, and after one round only the zone. */
async function hearWorst() {
  try {
    const found = await getInTurn(about("lanes/worst"));
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
  lanes = new Map();
  cursor = null;
  if (!box()) return;
  rows = new Map([...box().querySelectorAll("[data-lane]")].map((row) => [row.dataset.lane, row]));
  ridges.watch(box().querySelectorAll("[data-lane-ridge]"));
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
    axis();
    point();
    tell("spread");
  };
  wireZone();
  wirePointer();
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
