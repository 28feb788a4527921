// What the page knows: the session as the server last told it, and what is in view.

/** @typedef {{id: string, name: string, revision: number, undo: ?string, redo: ?string, rate: number,
 *   seconds: number, tempo_bpm: number, tempo_known: boolean, beats: import('./beats.js').Stretch[], listening_level_db_spl: number, levels_db_spl: {quiet: number, loud: number},
 *   tempo_estimated: boolean,
 *   first_loop: {start_s: number, end_s: number},
 *   sections: {id: string, name: string, start_s: number, end_s: number}[],
 *   parts: {id: string, name: string, tag: string, ink: number}[], faults: Record<string, string>,
 *   variants: {name: string, head: number, is_open: boolean}[],
 *   references: {id: string, name: string}[], zones: {id: string, low_hz: number, high_hz: number, leads: string, gives_way: string[]}[]}} Facts */

/** What is in view and heard. `reference` is the revision that flips between variants are matched to;
 * `heardRevision` one of the history that is listened to; `picture` the one shown at Lanes,
 * `track` the reference that is heard beside the mix.
 * @typedef {{facts: ?Facts, view: any, loop: {start_s: number, end_s: number}, hear: string, side: string, level: string, zoneWho?: string, partHow?: string,
 *   track?: ?string, look: any, picture: ?string, reference: ?number, heardRevision: ?number}} State */

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

/** Take over what the server said of the session. */
export function learn(facts) {
  state.facts = facts;
  tell("session", facts);
}
