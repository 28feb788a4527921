// The numbers beside the pictures.
import { about, getInTurn } from "./api.js";
import { question } from "./questions.js";
import { on, state } from "./state.js";

const change = (db) => (Math.abs(db) < 0.05 ? "0.0 dB" : `${db > 0 ? "−" : "+"}${Math.abs(db).toFixed(1)} dB`);
const onHits = ({ median_db, most_db }) => `${change(median_db)} · ${change(most_db)}`;

const FIGHT = ["zone", "standing", "clear", "clear-on-hits", "hidden", "on-hits", "whole-clear", "whole-hidden", "cost"];

function write(name, text) {
  for (const place of document.querySelectorAll(`[data-fact="${name}"]`)) place.textContent = text;
}

async function ask(signal) {
  if (!document.querySelector("[data-fact]") || !state.view.yielder) return;
  const found = await getInTurn(about("evidence", { move: state.view.move }), signal);
  const { silent, hits, words, move } = found;
  for (const place of FIGHT) write(place, silent ? "–" : (words[place] ?? "–"));
  if (silent) write("standing", silent);
  write("small", found.small);
  write("level", !move ? "–" : hits ? onHits(move.level) : "no hits here");
  const gain = hits && move?.gain;
  write("median", gain ? change(gain.median_db) : move?.gain ? "no hits here" : "–");
  write("most", gain ? change(gain.most_db) : "–");
}

const { now: load, soon } = question(ask, (message) => write("hidden", message), 300);

export function start() {
  on("view", load);
  on("changed", soon);
  on("loop", soon);
  load();
}
