// Puts the page together.
import { about, say } from "./api.js";
import * as again from "./again.js";
import * as chain from "./chain.js";
import * as controls from "./controls.js";
import * as deck from "./deck.js";
import { isAnswered } from "./channel.js";
import { edit, step } from "./edits.js";
import * as figures from "./figures.js";
import * as find from "./find.js";
import * as hitview from "./hitview.js";
import * as lanes from "./lanes.js";
import * as monitor from "./monitor.js";
import * as intake from "./intake.js";
import * as spectra from "./spectra.js";
import { go, look, onShown, reload } from "./stage.js";
import { firstLoop, setLoop } from "./loop.js";
import { learn, on, state, tell } from "./state.js";
import { busy, isIdle } from "./questions.js";
import { told } from "./told.js";
import * as proof from "./proof.js";
import * as rows from "./rows.js";
import * as several from "./several.js";
import * as regions from "./regions.js";
import * as response from "./response.js";
import * as song from "./song.js";
import * as strips from "./strips.js";
import * as timemap from "./timemap.js";
import * as variants from "./variants.js";

const $ = (id) => document.getElementById(id);
const stage = $("stage");

function wireStage() {
  controls.wire(stage);
  intake.wire(stage);
  again.wire(stage);
  for (const form of stage.querySelectorAll("[data-soft-form]")) {
    form.onchange = () => visit(`${form.action}?${typedIn(form)}`);
    form.onsubmit = (event) => event.preventDefault();
  }
  for (const form of stage.querySelectorAll("[data-choose-file]")) form.onchange = () => sendForm(form);
  regions.look();
  tell("view");
}

const typedIn = (form) => new URLSearchParams(/** @type {any} */ (new FormData(form)));

const visit = (url, options = {}) => go(url, options).catch((error) => say(error.message));

/** Send a form, or what a button of its own stands for; the screen that answers is shown. */
function sendForm(form) {
  const values = new FormData(form instanceof HTMLFormElement ? form : undefined);
  if (values.has("loop_start_s")) {
    values.set("loop_start_s", String(state.loop.start_s));
    values.set("loop_end_s", String(state.loop.end_s));
  }
  if (values.has("base")) values.set("base", String(state.facts.revision));
  return visit(form.action || form.dataset.send, { form: values });
}

/** Trim one part, or all, to the target that stands above the table. */
async function trim(part = null) {
  const { target, by, keep_mix } = Object.fromEntries(new FormData($("trim-form")));
  try {
    await edit({ op: "trim to", target, by, part, keep_mix: keep_mix === "1" });
    await reload();
  } catch (error) {
    say(error.message);
  }
}

/** Do what a button says: `data-then` is where to go after, and what appears there has the focus. */
async function doIt(button) {
  if (button.dataset.askFirst && !confirm(button.dataset.askFirst)) return;
  if (button.getAttribute("aria-busy") === "true") return;
  button.setAttribute("aria-busy", "true");
  try {
    const operation = JSON.parse(button.dataset.do);
    if ("start_s" in operation) operation.start_s = state.loop.start_s;
    if ("end_s" in operation) operation.end_s = state.loop.end_s;
    const answer = await edit(operation);
    const focus = answer?.added ? `chain-${answer.move.move}` : null;
    if (button.dataset.then) await go(button.dataset.then, { focus });
    else if (answer?.added) await go(`${location.pathname}?${new URLSearchParams({ part: answer.move.part, move: answer.move.move })}`, { focus });
    else await reload();
    if (answer?.title) told(answer.title);
  } catch (error) {
    say(error.message);
  }
  button.removeAttribute("aria-busy");
}

/** Take a picture of a move along: a file, of the loop and in the colours of the sheet in view. */
function takePicture({ picture, part, move, leader }) {
  const link = document.createElement("a");
  const sheet = document.documentElement.dataset.sheet === "night" ? "night" : "day";
  link.href = about(`pictures/${picture}`, { part, move, leader: leader || null, sheet });
  link.download = "";
  link.click();
}

function clicks(event) {
  const pictured = event.target.closest("[data-picture]");
  if (pictured) takePicture(pictured.dataset);
  const link = event.target.closest("#spine a, a[data-soft]");
  if (link && !event.metaKey && !event.ctrlKey) {
    event.preventDefault();
    visit(link.href);
    return;
  }
  const point = event.target.closest("[data-visit]");
  if (point) visit(point.dataset.visit);
  const button = event.target.closest("[data-do]");
  if (button) doIt(button);
  const looped = event.target.closest("[data-loop]");
  if (looped) setLoop(.../** @type {[number, number]} */ (looped.dataset.loop.split(" ").map(Number)));
  const trimmed = event.target.closest("[data-trim]");
  if (trimmed) trim(trimmed.dataset.trim);
  const sender = event.target.closest("button[data-send]");
  if (sender) sendForm(sender);
  const track = event.target.closest("[data-track]");
  if (track) {
    deck.track(track.dataset.track);
    if (!deck.player.playing) deck.toggle();
  }
  const heard = event.target.closest("[data-hear]");
  if (heard) {
    const what = heard.dataset.hear;
    if (what === "zone" && !state.view.zone) return say("Draw or type the zone first.");
    const again = what === "key" && state.hear === "key";
    deck.hear(again ? "mix" : what);
    if (!deck.player.playing) deck.toggle();
  }
}

const typing = (element) => element.closest?.("input:not([type=radio]):not([type=range]):not([type=checkbox]), select, textarea, dialog");

/** Whether keys without Ctrl or Alt act; kept per browser. */
const SINGLE_KEYS = "pondel-single-keys";
const areSingleKeysOn = () => localStorage.getItem(SINGLE_KEYS) !== "off";

/** A slider, a field or a picture's handle takes what is typed for itself. */
const takesKeys = (element) => typing(element) || element.closest?.("[role=slider], input[type=range]");

function keys(event) {
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z" && state.facts) {
    if (typing(event.target)) return;
    event.preventDefault();
    step(event.shiftKey ? "redo" : "undo");
    return;
  }
  if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target)) return;
  if (event.key !== " " && (!areSingleKeysOn() || takesKeys(event.target))) return;
  if (event.key === "?") return $("shortcuts").showModal();
  if (event.key === "/" && find.focus()) return event.preventDefault();
  if (!state.facts) return;
  if (event.key === " ") {
    if (event.target.closest("button:not(#play), input[type=checkbox], summary")) return;
    event.preventDefault();
    deck.toggle();
  } else if (event.key >= "1" && event.key <= "5") {
    document.querySelectorAll("#spine a")[Number(event.key) - 1].click();
  } else if (event.key.toLowerCase() === "v") variants.flip();
  else if (event.key.toLowerCase() === "f") monitor.fold(event.shiftKey);
  else if (event.key.toLowerCase() === "r") deck.track(event.shiftKey ? "next" : null);
  else if (event.key.toLowerCase() === "d") monitor.dim();
  else if (event.key.toLowerCase() === "q") monitor.level();
  else if (event.key.toLowerCase() === "z" && state.hear === "zone") monitor.who(1);
  else if (event.key.toLowerCase() === "s" && state.hear === "part") monitor.how(1);
  else if (event.key.toLowerCase() === "b") deck.side(state.side === "after" ? "before" : "after");
  else {
    const what = { m: "mix", p: "pair", s: "part", z: "zone", k: "key" }[event.key.toLowerCase()];
    const input = what && document.querySelector(`#hear input[value="${what}"]`);
    if (input && !input.disabled) deck.hear(what);
  }
}

function wireSheet() {
  const button = $("sheet-switch");
  const show = () => {
    const night = document.documentElement.dataset.sheet === "night";
    button.setAttribute("aria-pressed", String(night));
  };
  button.onclick = () => {
    const night = document.documentElement.dataset.sheet !== "night";
    document.documentElement.dataset.sheet = night ? "night" : "day";
    localStorage.setItem("pondel-sheet", night ? "night" : "day");
    show();
    if (state.facts) tell("sheet");
  };
  show();
}

function wireStrip() {
  $("help").onclick = () => $("shortcuts").showModal();
  const single = /** @type {HTMLInputElement} */ ($("single-keys"));
  single.checked = areSingleKeysOn();
  single.onchange = () => localStorage.setItem(SINGLE_KEYS, single.checked ? "on" : "off");
  wireSheet();
  if (!$("undo")) return;
  $("undo").onclick = () => step("undo");
  $("redo").onclick = () => step("redo");
  on("session", ({ undo, redo }) => {
    const had = document.activeElement;
    $("undo").disabled = !undo;
    $("redo").disabled = !redo;
    // Who has undone all there was is not left nowhere.
    if (had === $("undo") && !undo) $(redo ? "redo" : "history-open").focus();
    if (had === $("redo") && !redo) $(undo ? "undo" : "history-open").focus();
    $("undo").title = undo ? `Undo: ${undo}` : "Nothing to undo";
    $("redo").title = redo ? `Redo: ${redo}` : "Nothing to redo";
  });
}

/** A screen that was opened without the bounds of the loop is about another stretch than the one that plays. */
function followLoop() {
  const [start_s, end_s] = state.view.stretch ?? [state.loop.start_s, state.loop.end_s];
  const differs = Math.abs(start_s - state.loop.start_s) > 1e-3 || Math.abs(end_s - state.loop.end_s) > 1e-3;
  if (differs) reload().catch((error) => say(error.message));
}

async function begin() {
  wireStrip();
  document.addEventListener("keydown", keys);
  document.addEventListener("submit", (event) => {
    const form = /** @type {HTMLFormElement} */ (event.target);
    const question = event.submitter?.dataset.ask;
    if (question && !confirm(question)) event.preventDefault();
    else if (form.id === "trim-form") {
      event.preventDefault();
      trim();
    } else if (state.facts && form.matches("[data-send]")) {
      event.preventDefault();
      sendForm(form);
    }
  });
  const facts = $("facts");
  if (!facts) return;
  learn(JSON.parse(facts.textContent));
  state.loop = firstLoop();
  document.addEventListener("click", clicks);
  onShown(wireStage);
  window.addEventListener("popstate", () => visit(location.href, { push: false }));
  on("value", controls.follow);
  const ready = deck.start();
  monitor.start();
  find.start();
  rows.start();
  several.start();
  lanes.start();
  song.start();
  chain.start();
  response.start();
  hitview.start();
  variants.start();
  regions.start();
  timemap.start();
  spectra.start();
  strips.start();
  figures.start();
  proof.start();
  look();
  wireStage();
  followLoop();
  let later = 0;
  on("loop", () => {
    clearTimeout(later);
    later = setTimeout(() => state.view.loop && reload().catch((error) => say(error.message)), 300);
  });
  await document.fonts.ready;
  tell("sheet");
  await ready;
}

/** Whether all is saved and shown, and what plays is what is wanted. */
const isAtRest = () => isAnswered() && isIdle() && deck.player.isSettled();
/** What is waited for where that does not hold. */
const unrest = () => ({ isAnswered: isAnswered(), isSettled: deck.player.isSettled(), ...busy() });
window.pondel = { player: deck.player, state, isAtRest, unrest };
begin().catch((error) => say(error.message));
