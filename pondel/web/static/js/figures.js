// The numbers beside the pictures.
import { about, getJSON } from "./api.js";
import { question } from "./questions.js";
import { on, state } from "./state.js";

const percent = (share) => `${(share * 100).toFixed(0)} %`;
const change = (db) => (Math.abs(db) < 0.05 ? "0.0 dB" : `${db > 0 ? "−" : "+"}${Math.abs(db).toFixed(1)} dB`);
const onHits = ({ median_db, most_db }) => `${change(median_db)} · ${change(most_db)}`;

function write(name, text) {
  for (const place of document.querySelectorAll(`[data-fact="${name}"]`)) place.textContent = text;
}

async function ask(signal) {
  if (!document.querySelector("[data-fact]") || !state.view.yielder) return;
  const found = await getJSON(about("evidence", { move: state.view.move }), signal);
  const changed = Math.abs(found.hidden_before - found.hidden_after) >= 0.005;
  const both = (before, after) => (changed ? `${percent(before)} → ${percent(after)}` : percent(after));
  const { silent, hits, zone, move } = found;
  write("hidden", silent ?? both(found.hidden_before, found.hidden_after));
  write("on-hits", silent ? "–" : hits ? both(found.on_hits_before, found.on_hits_after) : "no hits here");
  write("zone", silent ? "–" : zone ? zone.words : "nowhere");
  write("cost", silent ? "–" : `${found.cost > 0 ? "−" : "+"}${Math.abs(found.cost * 100).toFixed(1)} %`);
  write("where", move ? `, ${move.zone}` : "");
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
