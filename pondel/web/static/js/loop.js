// The stretch of the song that goes round, kept in the browser.

import { state, tell } from "./state.js";

/** A loop as addresses have it: to a tenth of a millisecond, so that a page and its forms speak of one stretch. */
const exact = ({ start_s, end_s }) => ({ start_s: Number(start_s.toFixed(4)), end_s: Number(end_s.toFixed(4)) });

const keep = (loop) => localStorage.setItem(`pondel-loop-${state.facts.id}`, JSON.stringify(loop));

/** The loop that was kept, else the one to begin with. */
export function firstLoop() {
  const { first_loop, seconds, tempo_known, parts } = state.facts;
  const kept = localStorage.getItem(`pondel-loop-${state.facts.id}`);
  if (kept) {
    const loop = exact(JSON.parse(kept));
    if (loop.end_s <= seconds + 0.01) return loop;
  }
  const loop = exact(first_loop);
  // Kept, so that a page that is loaded anew plays what this one does.
  if (parts.length && tempo_known) keep(loop);
  return loop;
}

/** Change the loop. */
export function setLoop(start_s, end_s) {
  state.loop = exact({ start_s, end_s });
  keep(state.loop);
  tell("loop");
}
