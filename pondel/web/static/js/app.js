// Puts the page together.
import { say } from "./api.js";
import * as again from "./again.js";
import * as chain from "./chain.js";
import * as controls from "./controls.js";
import * as deck from "./deck.js";
import { edit, step } from "./edits.js";
import * as figures from "./figures.js";
import * as hitview from "./hitview.js";
import * as lanes from "./lanes.js";
import * as intake from "./intake.js";
import * as spectra from "./spectra.js";
import { go, look } from "./stage.js";
import { firstLoop, learn, on, state, tell } from "./state.js";
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
    form.onchange = () => go(`${form.action}?${new URLSearchParams(new FormData(form))}`);
    form.onsubmit = (event) => event.preventDefault();
  }
  look();
}

async function doIt(button) {
  if (button.dataset.askFirst && !confirm(button.dataset.askFirst)) return;
  button.disabled = true;
  try {
    const operation = JSON.parse(button.dataset.do);
    if ("start_s" in operation) operation.start_s = state.loop.start_s;
    await edit(operation);
    await go(button.dataset.then ?? location.href, { push: Boolean(button.dataset.then) });
  } catch (error) {
    say(error.message);
  }
  button.disabled = false;
}

function clicks(event) {
  const link = event.target.closest("#spine a, a[data-soft]");
  if (link && !event.metaKey && !event.ctrlKey) {
    event.preventDefault();
    go(link.href).catch((error) => say(error.message));
    return;
  }
  const button = event.target.closest("[data-do]");
  if (button) doIt(button);
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

function keys(event) {
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z" && state.facts) {
    event.preventDefault();
    step(event.shiftKey ? "redo" : "undo");
    return;
  }
  if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target)) return;
  if (event.key === "?") return $("shortcuts").showModal();
  if (!state.facts) return;
  if (event.key === " ") {
    if (event.target.closest("button:not(#play), a")) return;
    event.preventDefault();
    deck.toggle();
  } else if (event.key >= "1" && event.key <= "5") {
    document.querySelectorAll("#spine a")[Number(event.key) - 1].click();
  } else if (event.key.toLowerCase() === "v") variants.flip();
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
  wireSheet();
  if (!$("undo")) return;
  $("undo").onclick = () => step("undo");
  $("redo").onclick = () => step("redo");
  on("session", ({ undo, redo }) => {
    $("undo").disabled = !undo;
    $("redo").disabled = !redo;
    $("undo").title = undo ? `Undo: ${undo}` : "Nothing to undo";
    $("redo").title = redo ? `Redo: ${redo}` : "Nothing to redo";
  });
}

async function begin() {
  wireStrip();
  document.addEventListener("keydown", keys);
  document.addEventListener("submit", (event) => {
    const question = event.submitter?.dataset.ask;
    if (question && !confirm(question)) event.preventDefault();
  });
  const facts = $("facts");
  if (!facts) return;
  learn(JSON.parse(facts.textContent));
  state.loop = firstLoop();
  document.addEventListener("click", clicks);
  document.body.addEventListener("htmx:afterSettle", (event) => event.target === stage && wireStage());
  document.body.addEventListener("htmx:responseError", (event) => {
    let message = `the server answered ${event.detail.xhr.status}`;
    try {
      const body = JSON.parse(event.detail.xhr.responseText);
      message = body.where ? `${body.where}: ${body.message}` : body.message;
    } catch {
      // Not one of ours: the status has to do.
    }
    say(message);
  });
  window.addEventListener("popstate", () => go(location.href, { push: false }));
  on("value", controls.follow);
  const ready = deck.start();
  lanes.start();
  song.start();
  chain.start();
  response.start();
  hitview.start();
  variants.start();
  timemap.start();
  spectra.start();
  strips.start();
  figures.start();
  wireStage();
  let later = 0;
  on("loop", () => {
    clearTimeout(later);
    later = setTimeout(() => state.view.loop && go(location.href, { push: false }), 300);
  });
  await document.fonts.ready;
  tell("sheet");
  await ready;
}

window.pondel = { player: deck.player, state };
begin().catch((error) => say(error.message));
