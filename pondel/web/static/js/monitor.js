// How the deck is listened to: folded, dimmed, at a level; and what its meters show.
import { about, getInTurn, say } from "./api.js";
import * as deck from "./deck.js";
import { write } from "./plots.js";
import { question } from "./questions.js";
import { on, state, tell } from "./state.js";

const DIM_DB = -20;
const LEVELS = ["normal", "quiet", "loud"];
const $ = (id) => document.getElementById(id);
const signed = (value, decimals) => value.toFixed(decimals).replace("-", "−");
let shown = null;
let dimmed = false;

const meters = question(
  async (signal) => {
    const { parts, ...rest } = deck.wanted();
    if (!state.facts.parts.length || (rest.hear !== "mix" && !parts.length)) return;
    const revision = state.heardRevision ?? state.facts.revision;
    shown = await getInTurn(about("meter", { ...rest, part: parts, fold: $("fold-to").value, revision }), signal);
    const { highest_peak_dbfs: peak, lowest_correlation: lowest } = shown;
    write($("peak-loop"), signed(peak, 1));
    $("peak-loop").classList.toggle("wrong", peak > 0);
    $("peak-loop").title = peak > 0 ? "over full scale in this loop" : "highest in the loop";
    write($("with-lowest"), lowest == null ? "–" : signed(lowest, 2));
    needles();
  },
  () => {
    shown = null;
    for (const id of ["peak-now", "peak-loop", "lufs-now", "with-now", "with-lowest"]) write($(id), "–");
  },
  400,
);

function needles() {
  if (!shown) return;
  const n = Math.floor((deck.player.position() - shown.start_s) / shown.step_s);
  const at = (values, decimals) => (values[n] == null ? "–" : signed(values[n], decimals));
  write($("peak-now"), at(shown.peak_dbfs, 1));
  write($("lufs-now"), at(shown.momentary_lufs, 1));
  write($("with-now"), at(shown.correlation, 2));
}

function trim() {
  const { listening_level_db_spl: own, levels_db_spl: levels } = state.facts;
  const quiet_db = state.level === "quiet" ? Math.min(0, levels.quiet - own) : 0;
  deck.player.setTrim(quiet_db + (dimmed ? DIM_DB : 0));
}

/** Step to the next fold, or the one before. */
export function fold(back = false) {
  const { options } = $("fold-to");
  $("fold-to").selectedIndex = ($("fold-to").selectedIndex + (back ? options.length - 1 : 1)) % options.length;
  folded();
}

function folded() {
  deck.player.setFold($("fold-to").selectedOptions[0].dataset.matrix.split(" ").map(Number));
  $("fold-to").classList.toggle("on", $("fold-to").selectedIndex > 0);
  meters.soon();
}

export function dim() {
  dimmed = !dimmed;
  $("dim").setAttribute("aria-pressed", String(dimmed));
  trim();
}

/** The next of normal, quiet and loud. */
export function level() {
  $("level").value = LEVELS[(LEVELS.indexOf($("level").value) + 1) % LEVELS.length];
  levelled();
}

function levelled() {
  state.level = $("level").value;
  trim();
  const { listening_level_db_spl: own, levels_db_spl: levels } = state.facts;
  if (state.level === "loud") say(`The model hears it at ${levels.loud} dB SPL: turn the monitors up by ${Math.max(0, levels.loud - own)} dB to hear what it hears.`, 6);
  tell("level");
}

/** Who is heard in the zone: both, the leader alone, the part alone. */
export function who(next = null) {
  const choice = $("zone-who");
  if (next != null) choice.selectedIndex = (choice.selectedIndex + next) % choice.options.length;
  state.zoneWho = choice.value;
  tell("hear");
}

/** What of the part is heard: all of it, or what survives in the mix, or what is lost. */
export function how(next = null) {
  const choice = $("part-how");
  if (next != null) choice.selectedIndex = (choice.selectedIndex + next) % choice.options.length;
  state.partHow = choice.value;
  tell("hear");
}

export function start() {
  $("part-how").onchange = () => how();
  $("fold-to").onchange = folded;
  $("dim").onclick = dim;
  $("level").onchange = levelled;
  $("zone-who").onchange = () => who();
  on("hear", () => {
    $("zone-who").hidden = state.hear !== "zone";
    $("part-how").hidden = state.hear !== "part";
    meters.soon();
  });
  for (const what of ["loop", "view", "changed", "zone"]) on(what, meters.soon);
  on("playhead", needles);
  meters.soon();
}
