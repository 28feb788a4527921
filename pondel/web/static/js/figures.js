// The numbers beside the pictures.
import { about, getJSON } from "./api.js";
import { question } from "./questions.js";
import { on, state } from "./state.js";

const percent = (share) => `${(share * 100).toFixed(0)} %`;
const fall = (db) => (db < 0.05 ? "0.0 dB" : `−${db.toFixed(1)} dB`);

function write(name, text) {
  for (const place of document.querySelectorAll(`[data-fact="${name}"]`)) place.textContent = text;
}

async function ask(signal) {
  if (!document.querySelector("[data-fact]") || !state.view.yielder) return;
  const found = await getJSON(about("evidence"), signal);
  const changed = Math.abs(found.hidden_before - found.hidden_after) >= 0.005;
  const both = (before, after) => (changed ? `${percent(before)} → ${percent(after)}` : percent(after));
  write("hidden", both(found.hidden_before, found.hidden_after));
  write("on-hits", found.hits ? both(found.on_hits_before, found.on_hits_after) : "no hits here");
  write("zone", found.zone ? found.zone.words : "nowhere");
  write("cost", `${found.cost > 0 ? "−" : "+"}${Math.abs(found.cost * 100).toFixed(1)} %`);
  const done = found.reduction[state.view.move];
  // A move that is off, or that holds still, has no reduction to tell.
  write("median", done ? (done.hits ? fall(done.median_db) : "no hits here") : "–");
  write("most", done ? fall(done.most_db) : "–");
}

const { now: load, soon } = question(ask, (message) => write("hidden", message), 300);

export function start() {
  on("view", load);
  on("changed", soon);
  on("loop", soon);
  load();
}
