// Sends changes one after another; while one is on its way to the ear only the newest of each value waits.
import { Refused, page, post, say } from "./api.js";
import { inTurn } from "./channel.js";
import { heard, player, wanted } from "./deck.js";
import { answered } from "./gestures.js";
import { told } from "./told.js";
import { Waiting, slotOf } from "./order.js";
import { learn, state, tell } from "./state.js";
import { reload } from "./stage.js";

/** @typedef {{operation: any, gesture: ?string, done: (answer: any) => void, failed: (error: Error) => void}} Change */

/** @type {Waiting<Change>} */
const waiting = new Waiting();
let busy = false;
/** Steps that say what they did. */
const STEPS = { undo: "Undone", redo: "Redone" };

/** Apply an operation; resolves with the server's answer, or null when a newer one replaced it. */
export function edit(operation, gesture = null) {
  return new Promise((done, failed) => {
    waiting.put(slotOf(operation), { operation, gesture, done, failed })?.done(null);
    if (busy) return;
    busy = true;
    inTurn(send);
  });
}

async function send() {
  while (waiting.size) {
    const [slot, one] = waiting.take();
    try {
      const { facts } = state;
      const asked = wanted();
      const body = { do: one.operation, base: facts.revision, gesture: one.gesture, page, listen: { ...asked, at: player.upcoming(), heard: player.heard } };
      const answer = await post(`/sessions/${facts.id}/edit`, body);
      answered(one.gesture);
      learn(answer.session);
      if (answer.move && answer.value && !waiting.has(slot)) tell("value", { field: one.operation.field, ...answer.move, ...answer.value });
      if (answer.said.length && !answer.added) say(answer.said.join(" "));
      // Sound that was asked for before something else was chosen to be heard is not played.
      const isWanted = JSON.stringify(wanted()) === JSON.stringify(asked);
      tell("changed", isWanted ? { sound: answer.sound, samples: answer.samples } : {});
      one.done(answer);
      if (waiting.size) await heard();
    } catch (error) {
      one.failed(error);
      if (error instanceof Refused && error.status === 409) {
        for (const given of waiting.clear()) given.done(null);
        say(error.message);
        reload().catch((failure) => say(failure.message));
      }
    }
  }
  busy = false;
}

/**
 * Step back or forward, or to any state or variant, after the changes asked for before; then show it.
 * `left(revision)` is told what was heard until then, before the new sound is asked for.
 * @param {string} which @param {(revision: number) => void} left
 */
export async function step(which, left = () => {}) {
  try {
    const what = which in STEPS ? state.facts[which] : "";
    if (what === null) {
      told(`Nothing to ${which}`);
      return false;
    }
    await inTurn(async () => {
      const { facts } = state;
      const answer = await post(`/sessions/${facts.id}/${which}`, { base: facts.revision });
      left(facts.revision);
      learn(answer.session);
      tell("changed", {});
    });
    await reload();
    if (what) told(`${STEPS[which]}: ${what}`);
    return true;
  } catch (error) {
    say(error.message);
    if (error instanceof Refused && error.status === 409) await reload();
    return false;
  }
}
