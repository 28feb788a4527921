// What was played of the mix, and how, goes to the server, which says what of the list that ticks.
import { post, say } from "./api.js";
import { player } from "./deck.js";
import { on, state } from "./state.js";

const SEND_MS = 4000;
const JUMP_S = 0.5;
const LONGEST_S = 20;
/** @typedef {{start_s: number, end_s: number, fold: string, level: string, revision: number}} Span */
/** @type {?Span} */
let now = null;
/** @type {Span[]} */
let spans = [];
/** @type {(heard: string[]) => void} */
let onNews = () => {};

/** @returns {?{fold: string, level: string, revision: number}} */
function way() {
  if (state.hear !== "mix" || state.side !== "after" || state.view.tryout) return null;
  const fold = /** @type {HTMLSelectElement} */ (document.getElementById("fold-to"));
  return { fold: fold.value, level: state.level, revision: state.heardRevision ?? state.facts.revision };
}

function close() {
  if (now && now.end_s > now.start_s) spans.push(now);
  now = null;
}

function follow() {
  const how = way();
  const at = player.position();
  const isSame = now && how && now.fold === how.fold && now.level === how.level && now.revision === how.revision;
  if (isSame && at >= now.end_s && at - now.end_s < JUMP_S && at - now.start_s < LONGEST_S) {
    now.end_s = at;
    return;
  }
  close();
  if (how) now = { start_s: at, end_s: at, ...how };
}

async function send() {
  close();
  const revision = spans[0]?.revision;
  if (revision == null) return;
  const sent = spans.filter((one) => one.revision === revision);
  spans = spans.filter((one) => one.revision !== revision);
  try {
    const { heard } = await post(`/sessions/${state.facts.id}/listened`, { revision, spans: sent });
    onNews(heard);
  } catch (error) {
    say(error.message);
  }
}

export function start(news) {
  onNews = news;
  on("playhead", follow);
  setInterval(send, SEND_MS);
}
