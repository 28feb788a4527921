// The blind test: all sounds of a round run together, one of them is let through.
import { getFloats, say } from "./api.js";
import * as deck from "./deck.js";
import { on, state } from "./state.js";

const FADE_S = 0.012;
/** @type {?{gains: GainNode[], sources: AudioBufferSourceNode[]}} */
let running = null;
/** @type {Promise<Float32Array>[]} */
let sounds = [];
let shown = "";

function stop() {
  for (const source of running?.sources ?? []) source.stop();
  running = null;
  for (const button of document.querySelectorAll("[data-blind-play]")) button.setAttribute("aria-pressed", "false");
}

/** Fetch what a new round plays, all of it, before anything is heard. */
function prepare() {
  const round = /** @type {HTMLElement} */ (document.querySelector("[data-blind]"));
  const now = round?.dataset.blind ?? "";
  if (now === shown) return;
  shown = now;
  stop();
  if (!now) return;
  const { tokens, at } = JSON.parse(now);
  sounds = tokens.map((token) => getFloats(`${at}/${token}`));
  Promise.all(sounds).catch((error) => say(error.message));
}

function wire(place) {
  window.htmx.process(place);
  const form = /** @type {HTMLFormElement} */ (place.querySelector("[data-blind-begin]"));
  if (form) {
    const { start_s, end_s } = state.loop;
    /** @type {any} */ (form.elements).start_s.value = String(start_s);
    /** @type {any} */ (form.elements).end_s.value = String(end_s);
  }
  prepare();
}

function begin(arrays) {
  const { player } = deck;
  player.open(state.facts.rate);
  const { context } = player;
  context.resume();
  const at = context.currentTime + 0.03;
  running = { gains: [], sources: [] };
  for (const samples of arrays) {
    const half = samples.length / 2;
    const buffer = context.createBuffer(2, half, state.facts.rate);
    buffer.copyToChannel(samples.subarray(0, half), 0);
    buffer.copyToChannel(samples.subarray(half), 1);
    const gain = context.createGain();
    gain.gain.value = 0;
    const source = context.createBufferSource();
    source.buffer = buffer;
    source.loop = true;
    source.connect(gain).connect(player.volume);
    source.start(at);
    running.gains.push(gain);
    running.sources.push(source);
  }
}

async function play(button) {
  if (deck.player.playing) await deck.toggle();
  const wasOn = button.getAttribute("aria-pressed") === "true";
  const arrays = await Promise.all(sounds);
  if (!button.isConnected) return;
  if (!running) begin(arrays);
  const n = wasOn ? -1 : Number(button.dataset.blindPlay);
  const at = deck.player.context.currentTime;
  running.gains.forEach(({ gain }, k) => gain.setTargetAtTime(k === n ? 1 : 0, at, FADE_S / 3));
  for (const one of document.querySelectorAll("[data-blind-play]")) one.setAttribute("aria-pressed", String(one === button && !wasOn));
}

/** @param {() => void} onResult */
export function start(onResult) {
  // Whoever starts the deck hears the deck.
  on("playhead", () => running && stop());
  document.addEventListener("click", (event) => {
    const button = /** @type {HTMLElement} */ (event.target).closest("[data-blind-play]");
    if (button) play(button).catch((error) => say(error.message));
  });
  document.body.addEventListener("htmx:afterSettle", (event) => {
    const place = document.getElementById("blind");
    if (place && event.target === place) {
      wire(place);
      const next = place.querySelector("[data-blind-play], #blind-result, #blind-begin");
      if (next instanceof HTMLElement) next.focus();
      if (place.querySelector("#blind-result")) onResult();
    }
  });
  document.body.addEventListener("htmx:responseError", (event) => {
    const { responseText } = /** @type {any} */ (event).detail.xhr;
    try {
      const { where, message } = JSON.parse(responseText);
      say(where ? `${where}: ${message}` : message);
    } catch {
      say("That was refused.");
    }
  });
}

/** What stands at Proof when it is shown. */
export function look() {
  const place = document.getElementById("blind");
  if (place) wire(place);
  else stop();
}
