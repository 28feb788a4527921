// What the page knows: the session as the server last told it, and what is in view.

/** @typedef {{id: string, name: string, revision: number, undo: ?string, redo: ?string, rate: number,
 *   seconds: number, tempo_bpm: number, tempo_known: boolean, listening_level_db_spl: number, levels_db_spl: {quiet: number, loud: number}, beats_per_bar: number,
 *   sections: {id: string, name: string, start_s: number, end_s: number}[],
 *   parts: {id: string, name: string, tag: string, ink: number}[], faults: Record<string, string>,
 *   variants: {name: string, head: number, is_open: boolean}[],
 *   zones: {id: string, low_hz: number, high_hz: number, leads: string, gives_way: string[]}[]}} Facts */

/** What is in view and heard. `reference` is the revision that flips between variants are matched to;
 * `heardRevision` one of the history that is listened to; `picture` the one shown at Lanes.
 * @typedef {{facts: ?Facts, view: any, loop: {start_s: number, end_s: number}, hear: string, side: string, level: string, zoneWho?: string, partHow?: string,
 *   look: any, picture: ?string, reference: ?number, heardRevision: ?number}} State */

export const bus = new EventTarget();

/** @type {State} */
export const state = {
  facts: null,
  view: {},
  loop: { start_s: 0, end_s: 8 },
  hear: "mix",
  side: "after",
  level: "normal",
  look: {},
  picture: null,
  reference: null,
  heardRevision: null,
};

/** Tell everyone that something is new: "session", "view", "loop", "hear", "level", "zone". */
export function tell(what, detail = {}) {
  bus.dispatchEvent(new CustomEvent(what, { detail }));
}

/** @param {string} what @param {(detail: any) => void} heard */
export function on(what, heard) {
  bus.addEventListener(what, (event) => heard(/** @type {CustomEvent} */ (event).detail));
}

/** Seconds of one beat; one second while the tempo is not known. */
export const beat = () => (state.facts.tempo_known ? 60 / state.facts.tempo_bpm : 1);

/** Seconds of one bar. */
export const bar = () => beat() * state.facts.beats_per_bar;

/** What stands at a bar line: its number, or the time while the tempo is not known. */
export function barWord(n) {
  const s = n * bar();
  return state.facts.tempo_known ? `bar ${n + 1}` : `${Math.floor(s / 60)}:${String(Math.round(s % 60)).padStart(2, "0")}`;
}

/** Take over what the server said of the session. */
export function learn(facts) {
  state.facts = facts;
  tell("session", facts);
}

const UNKNOWN_LOOP_S = 8;

/** The four bars to begin with: those after the first section change. */
export function firstLoop() {
  const { sections, seconds } = state.facts;
  const kept = localStorage.getItem(`pondel-loop-${state.facts.id}`);
  if (kept) {
    const loop = JSON.parse(kept);
    if (loop.end_s <= seconds + 0.01) return loop;
  }
  const start_s = sections.length > 1 ? sections[1].start_s : 0;
  const { tempo_known, parts } = state.facts;
  const loop = { start_s, end_s: Math.min(start_s + (tempo_known ? 4 * bar() : UNKNOWN_LOOP_S), Math.max(seconds, 0.5)) };
  // Kept, so that a page that is loaded anew plays what this one does.
  if (parts.length && tempo_known) keepLoop(loop);
  return loop;
}

const keepLoop = (loop) => localStorage.setItem(`pondel-loop-${state.facts.id}`, JSON.stringify(loop));

/** Change the loop. */
export function setLoop(start_s, end_s) {
  state.loop = { start_s, end_s };
  keepLoop(state.loop);
  tell("loop");
}
