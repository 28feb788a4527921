// The deck: play, loop, what is heard, before and after.
import { about, getInTurn, getJSON, say } from "./api.js";
import { Player } from "./player.js";
import { dragging } from "./drag.js";
import { atRest, first, isHurried, question } from "./questions.js";
import { barAt, barsBeats, beat, nearestBeat, secondOfBar } from "./beats.js";
import { firstLoop, setLoop } from "./loop.js";
import { on, state, tell } from "./state.js";
import { clear, pointNeedle, sized, write } from "./plots.js";

const PATIENCE_MS = 150;
export const player = new Player();
player.onTrouble = (error) => say(error.message);
const $ = (id) => document.getElementById(id);
let match = { gain_db: 0, lufs: null };
let outline = null;
const OUTLINE_AGAIN_MS = 700;
let outlining = 0;
let asking = 0;
/** The way to make room that is heard instead of the session, while one is tried. */
let tryout = undefined;

/** What the deck wants to hear, in the words of the server; until a fight's zone is found, the pair. */
export function wanted() {
  const { view, side } = state;
  const hear = state.hear === "zone" && !view.zone ? "pair" : state.hear;
  const both = [view.leader, view.yielder];
  const inZone = { leader: [view.leader], part: [view.yielder] }[state.zoneWho] ?? both;
  const parts = { pair: both, zone: inZone, mix: [], reference: [state.track] }[hear] ?? [view.part ?? view.yielder];
  const zone = hear === "zone" ? view.zone : {};
  const how = hear === "part" ? (state.partHow ?? "part") : hear;
  return { hear: how, parts: parts.filter(Boolean), move: view.move ?? null, tryout: view.tryout ?? null, state: side, ...zone };
}

/** What is heard is as loud as the sound after the moves, or as what was heard before a flip. */
const gain = () => {
  if (state.hear === "reference") return 10 ** (match.gain_db / 20);
  if (state.side === "before") return 10 ** ((match.gain_db + reference.gain_db) / 20);
  return 10 ** (reference.gain_db / 20);
};
let reference = { gain_db: 0 };

/** Where the sound of the present choices is to be had: one that goes on from what is `heard`, or else exact. */
function listenAddress(heard = null) {
  const { parts, ...rest } = wanted();
  const revision = state.heardRevision ?? state.facts.revision;
  return about("listen", { ...rest, part: parts, revision, heard });
}

const EXACT_MS = 300;
/** After a change exact sound takes the place of one in which halls and echoes ring on from before. */
const exactly = atRest(() => player.wanted?.sound.is_exact === false && refresh(), EXACT_MS);

function bring(sound) {
  if (!sound.is_exact) exactly();
  return player.swap(sound, gain());
}

let hearing = Promise.resolve();
/** Settles when the sound of the last edit is under the playhead, or after a moment. */
export const heard = () => Promise.race([hearing, new Promise((done) => setTimeout(done, PATIENCE_MS))]);

/** Ask for the sound that fits the present choices and bring it under the playhead. */
async function refresh(heard = null) {
  if (!player.isOn) return;
  const mine = ++asking;
  try {
    await first(async () => {
      const sound = await getJSON(listenAddress(heard));
      if (state.hear === "reference") await matched();
      if (mine === asking) await bring(sound);
    });
  } catch (error) {
    say(error.message);
  }
}

export async function toggle() {
  if (player.isOn) {
    player.stop();
    show();
    return;
  }
  try {
    player.open(state.facts.rate);
    const sound = await getJSON(listenAddress());
    if (state.hear === "reference") await matched();
    await player.play(sound, gain());
  } catch (error) {
    say(error.message);
  }
  show();
}

function show() {
  $("play").setAttribute("aria-pressed", String(player.isOn));
  $("play").setAttribute("aria-label", player.isOn ? "Stop" : "Play");
}

/** Choose what is heard: mix, pair, part or key. */
export async function hear(what) {
  if (what === "zone" && !state.view.zone) await findZone();
  if (what === "zone" && !state.view.zone) return state.hear === "zone" ? hear("pair") : undefined;
  state.hear = what;
  document.querySelector(`#hear input[value="${what}"]`).checked = true;
  for (const button of document.querySelectorAll('[data-hear="key"]')) button.setAttribute("aria-pressed", String(what === "key"));
  tell("hear");
}

/** What was heard before a reference was. */
let beforeTrack = "mix";

/** Hear a reference as loud as the mix, and what was heard before again; or one by its id, or the next. */
export function track(which = null) {
  const { references } = state.facts;
  if (!references.length) return say("There is no reference yet: bring a track in at Intake and tick reference there.", 5);
  const at = references.findIndex((one) => one.id === state.track);
  if (which === "next") state.track = references[(at + 1) % references.length].id;
  else if (which) state.track = which;
  else if (at < 0) state.track = references[0].id;
  $("track").value = state.track;
  if (!which && state.hear === "reference") return hear(beforeTrack);
  if (state.hear !== "reference") beforeTrack = state.hear;
  return hear("reference");
}

/** The references that can be heard. */
let listed = "";
function listTracks() {
  const { references } = state.facts;
  const now = JSON.stringify([references, state.hear, state.track]);
  if (listed === now) return;
  listed = now;
  $("hear-reference").hidden = !references.length;
  if (!references.some((one) => one.id === state.track)) state.track = references[0]?.id ?? null;
  const options = references.map((one) => {
    const option = document.createElement("option");
    option.value = one.id;
    option.textContent = one.name;
    return option;
  });
  $("track").replaceChildren(...options);
  $("track").value = state.track ?? "";
  document.querySelector('#hear input[value="reference"]').disabled = !references.length;
  $("track").hidden = state.hear !== "reference" || references.length < 2;
  if (state.hear === "reference" && !references.length) hear("mix");
}

/** The zone of the fight in view, where none was drawn. */
async function findZone() {
  try {
    state.view.zone = await getInTurn(about("fight-zone"));
  } catch (error) {
    say(error.message);
  }
}

/** Before or after the moves. */
export function side(which) {
  state.side = which;
  document.querySelector(`#side input[value="${which}"]`).checked = true;
  tell("hear");
}

/** How much louder or softer the other side, and what was heard before a flip, have to be played. */
async function matched(signal = undefined) {
  const { hear: what, parts, low_hz, high_hz } = wanted();
  if (what !== "mix" && what !== "key" && !parts.length) return;
  match = await getInTurn(about("match", { hear: what, part: parts, low_hz, high_hz }), signal);
  reference = { gain_db: 0 };
  if (state.reference != null && state.facts.variants.length > 1 && what !== "reference") {
    const found = await getInTurn(about("match", { hear: what, part: parts, low_hz, high_hz, reference: state.reference }), signal);
    reference = { gain_db: -found.gain_db };
  }
}
const matching = question(
  async (signal) => {
    await matched(signal);
    showMatch();
  },
  () => {
    match = { gain_db: 0, lufs: null };
    showMatch();
  },
  400,
);

function showMatch() {
  $("loop-lufs").textContent = match.lufs == null ? "–" : match.lufs.toFixed(1).replace("-", "−");
  player.setGain(gain());
}

const minutes = (s) => `${Math.floor(s / 60)}:${(s % 60).toFixed(1).padStart(4, "0")}`;

function drawSong() {
  const { context, width, height, css } = sized($("song").querySelector("canvas"));
  const { seconds, sections } = state.facts;
  const x = (s) => (s / seconds) * width;
  clear(context, width, height);
  area = { left: 0, width, height };
  context.fillStyle = css("--mark");
  context.fillRect(x(state.loop.start_s), 0, x(state.loop.end_s) - x(state.loop.start_s), height);
  const middle = height / 2 + 5;
  if (outline) {
    context.fillStyle = css("--edge");
    const step = width / outline.length;
    const scale = (height / 2 - 8) / Math.max(0.05, ...outline.map(([low, high]) => Math.max(-low, high)));
    outline.forEach(([low, high], i) => context.fillRect(i * step, middle - high * scale, Math.max(step, 0.7), Math.max(1, (high - low) * scale)));
  }
  context.font = "500 10.5px 'Atkinson Hyperlegible Next'";
  for (const section of sections) {
    context.fillStyle = css("--rule2");
    context.fillRect(x(section.start_s), 0, 1, height);
    context.fillStyle = css("--soft");
    context.fillText(section.name, x(section.start_s) + 4, 10, Math.max(0, x(section.end_s) - x(section.start_s) - 6));
  }
  context.strokeStyle = css("--ink");
  context.lineWidth = 1;
  context.strokeRect(x(state.loop.start_s) + 0.5, 0.5, x(state.loop.end_s) - x(state.loop.start_s) - 1, height - 1);
  point();
}

let area = { left: 0, width: 0, height: 0 };
const point = () => pointNeedle($("song"), player.position() / state.facts.seconds, area);

function placeEnds() {
  const { seconds } = state.facts;
  for (const [id, key] of [["loop-start", "start_s"], ["loop-end", "end_s"]]) {
    const end = $(id);
    const at = state.loop[key];
    end.style.setProperty("--at", `${(100 * at) / seconds}%`);
    end.setAttribute("aria-valuemax", seconds.toFixed(2));
    end.setAttribute("aria-valuenow", at.toFixed(2));
    end.setAttribute("aria-valuetext", state.facts.tempo_known ? `bar ${barsBeats(at)}, ${minutes(at)}` : minutes(at));
  }
}

function bound(start_s, end_s) {
  const { seconds } = state.facts;
  const least = Math.min(Math.max(beat(start_s), 0.5), seconds);
  start_s = Math.min(Math.max(0, start_s), seconds - least);
  return [start_s, Math.min(Math.max(end_s, start_s + least), seconds)];
}

function moveEnd(key, s) {
  const loop = { ...state.loop, [key]: s };
  if (key === "start_s" && loop.start_s >= loop.end_s) return;
  setLoop(...bound(loop.start_s, loop.end_s));
}

function wireLoop() {
  const song = $("song");
  const canvas = song.querySelector("canvas");
  const at = (event) => {
    const box = canvas.getBoundingClientRect();
    return Math.min(1, Math.max(0, (event.clientX - box.left) / box.width)) * state.facts.seconds;
  };
  for (const [id, key] of [["loop-start", "start_s"], ["loop-end", "end_s"]]) {
    const end = $(id);
    dragging(end, {
      pressed: () => ({ before: state.loop }),
      moved: (event) => moveEnd(key, nearestBeat(at(event))),
      givenUp: ({ before }) => setLoop(before.start_s, before.end_s),
    });
    end.addEventListener("keydown", (event) => {
      const s = state.loop[key];
      const beats = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 };
      const bars = { PageDown: -1, PageUp: 1 };
      if (!(event.key in beats || event.key in bars)) return;
      event.preventDefault();
      moveEnd(key, event.key in beats ? nearestBeat(s, beats[event.key]) : nearestBeat(secondOfBar(barAt(s) + bars[event.key])));
    });
  }
  const isDrawn = (event, from) => Math.abs(at(event) - from) >= beat(from) / 2;
  dragging(canvas, {
    pressed: (event) => ({ from: at(event), before: state.loop }),
    moved: (event, { from }) => {
      if (!isDrawn(event, from)) return;
      const [a, b] = [from, at(event)].sort((p, q) => p - q);
      setLoop(...bound(nearestBeat(a), nearestBeat(b)));
    },
    released: (event, { from }) => isDrawn(event, from) || goTo(at(event)),
    givenUp: ({ before }) => setLoop(before.start_s, before.end_s),
  });
}

/** Play on from a place in the song; the loop goes along where it lies outside. */
async function goTo(position) {
  const length = state.loop.end_s - state.loop.start_s;
  if (position < state.loop.start_s || position > state.loop.end_s) {
    const start = secondOfBar(Math.floor(barAt(position)));
    setLoop(...bound(start, start + length));
  }
  await player.seek(position);
  tellTime();
  drawSong();
}

function tellTime() {
  const s = player.position();
  write($("clock"), state.facts.tempo_known ? barsBeats(s) : minutes(s));
  write($("clock-time"), state.facts.tempo_known ? `bar${state.facts.tempo_estimated ? "?" : ""} · ${minutes(s)}` : "no tempo");
}

/** While a change is on its way to the ear the needles move in every third frame only. */
let frames = 0;
/** Who wants little motion sees them step four times a second. */
const calm = matchMedia("(prefers-reduced-motion: reduce)");
const CALM_MS = 250;
function frame() {
  if (player.playing && (!isHurried() || calm.matches || ++frames % 3 === 0)) {
    tellTime();
    point();
    tell("playhead");
  }
  if (calm.matches) setTimeout(frame, CALM_MS);
  else requestAnimationFrame(frame);
}

export async function start() {
  wireLoop();
  player.loop = state.loop;
  player.resting = state.loop.start_s;
  $("play").onclick = toggle;
  $("volume").oninput = (event) => player.setVolume(Number(event.target.value));
  for (const input of document.querySelectorAll("#hear input")) input.onchange = () => hear(input.value);
  for (const input of document.querySelectorAll("#side input")) input.onchange = () => side(input.value);
  on("loop", () => {
    player.setLoop(state.loop);
    placeEnds();
    drawSong();
    matching.soon();
  });
  on("hear", () => {
    refresh();
    matching.soon();
  });
  on("view", () => {
    const { view } = state;
    document.querySelector('#hear input[value="pair"]').disabled = !(view.leader && view.yielder);
    document.querySelector('#hear input[value="part"]').disabled = !view.part;
    document.querySelector('#hear input[value="key"]').disabled = !view.move;
    document.querySelector('#hear input[value="zone"]').disabled = !(view.leader && view.yielder);
    const impossible = document.querySelector(`#hear input[value="${state.hear}"]`).disabled;
    if (impossible) hear("mix");
    else if (state.hear === "zone" && !view.zone) hear("zone");
    else if (state.hear !== "mix" || view.tryout !== tryout) refresh();
    tryout = view.tryout;
    matching.soon();
    drawSong();
  });
  on("changed", ({ sound, samples }) => {
    if (samples && player.isOn) player.keepAll(sound, sound.at, samples);
    if (sound && player.isOn) {
      // What was asked for before the change is older than its sound.
      asking++;
      hearing = first(() => bring(sound)).catch(player.onTrouble);
    } else refresh(player.heard);
    matching.soon();
  });
  on("zone", () => {
    if (state.hear === "zone") refresh();
  });
  on("session", followSong);
  for (const what of ["session", "hear"]) on(what, listTracks);
  $("track").onchange = () => track($("track").value);
  listTracks();
  on("changed", outlineSoon);
  on("sheet", drawSong);
  new ResizeObserver(drawSong).observe($("song"));
  placeEnds();
  drawSong();
  tellTime();
  requestAnimationFrame(frame);
  followSong();
  await drawOutline();
}

/** What the deck knows of the song: its length, sections, tempo, and whether there is anything to play. */
let known = "";
function followSong() {
  const { seconds, sections, beats, tempo_known, tempo_estimated, tempo_bpm, parts } = state.facts;
  $("clock-time").title = tempo_estimated ? `Bars count at ${Number(tempo_bpm.toFixed(2))} bpm, estimated from the hits: confirm the tempo at Intake` : tempo_known ? "" : "The tempo is not known: set it at Intake";
  const now = JSON.stringify([seconds, sections, tempo_known && beats, parts.length]);
  if (now === known) return;
  // Bars are known from now on: the loop to begin with is one of bars, unless another was chosen.
  if (known && tempo_known && JSON.parse(known)[2] === false) state.loop = firstLoop();
  const isLonger = known && JSON.parse(known)[0] !== seconds;
  known = now;
  if (isLonger && (state.loop.end_s > seconds || !outline)) state.loop = firstLoop();
  player.loop = state.loop;
  if (!player.playing) player.resting = Math.min(Math.max(player.resting, state.loop.start_s), state.loop.end_s);
  placeEnds();
  drawSong();
  tellTime();
}

/** The mix's outline as it is now; it is drawn on the server behind everything else, so it is asked for again. */
async function drawOutline() {
  const { revision, parts } = state.facts;
  const { columns, over } = parts.length ? await getJSON(about("song-outline")) : { columns: [], over: "" };
  if (revision !== state.facts.revision) return;
  if (!columns) return outlineSoon();
  write($("over"), over);
  $("over").hidden = !over;
  $("over").title = over;
  outline = columns.length ? columns : null;
  drawSong();
}

function outlineSoon() {
  clearTimeout(outlining);
  outlining = setTimeout(() => (isHurried() ? outlineSoon() : drawOutline().catch((error) => say(error.message))), OUTLINE_AGAIN_MS);
}
