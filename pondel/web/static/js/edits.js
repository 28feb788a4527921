// Sends edits one after another; while one is on its way to the ear only the newest of each value waits.
import { Refused, page, post, say } from "./api.js";
import { write } from "./plots.js";
import { first } from "./questions.js";
import { learn, state, tell } from "./state.js";
import { reload } from "./stage.js";
import { heard, player, wanted } from "./deck.js";

const PATIENCE_MS = 400;
/** @type {Map<string, any>} */
const waiting = new Map();
let busy = false;
/** Settles when every edit and step asked for so far has been answered. */
let sending = Promise.resolve();
let unanswered = 0;
let saying = 0;
const saved = document.getElementById("saved");

/** Work after all that was asked for before. Nothing is said of what is saved at once: a drag would chatter. */
function inTurn(work) {
  if (unanswered++ === 0) {
    saved.setAttribute("aria-busy", "true");
    saying = setTimeout(() => write(saved, "saving"), PATIENCE_MS);
  }
  sending = sending.then(() => first(work)).finally(() => {
    if (--unanswered) return;
    clearTimeout(saying);
    write(saved, "all saved");
    saved.setAttribute("aria-busy", "false");
  });
  return sending;
}

/** Apply an edit; resolves with the server's answer, or null when a newer one replaced it. */
export function edit(operation, gesture = null) {
  const slot = [operation.op, operation.part, operation.move, operation.field].join("|");
  return new Promise((done, failed) => {
    waiting.get(slot)?.done(null);
    waiting.delete(slot);
    waiting.set(slot, { operation, gesture, done, failed });
    if (busy) return;
    busy = true;
    inTurn(send);
  });
}

async function send() {
  while (waiting.size) {
    const [slot, one] = waiting.entries().next().value;
    waiting.delete(slot);
    try {
      const { facts } = state;
      const body = { do: one.operation, base: facts.revision, gesture: one.gesture, page, listen: { ...wanted(), at: player.upcoming() } };
      const answer = await post(`/sessions/${facts.id}/edit`, body);
      learn(answer.session);
      if (answer.move && answer.value && !waiting.has(slot)) tell("value", { field: one.operation.field, ...answer.move, ...answer.value });
      if (answer.said.length && !answer.added) say(answer.said.join(" "));
      tell("changed", { sound: answer.sound, samples: answer.samples });
      one.done(answer);
      if (waiting.size) await heard();
    } catch (error) {
      one.failed(error);
      if (error instanceof Refused && error.status === 409) {
        waiting.clear();
        say(error.message);
        await reload().catch((failure) => say(failure.message));
      }
    }
  }
  busy = false;
}

/** Step back or forward, after the edits and steps asked for before. */
export function step(which) {
  return inTurn(() => stepNow(which));
}

async function stepNow(which) {
  const { facts } = state;
  try {
    const answer = await post(`/sessions/${facts.id}/${which}`, {});
    learn(answer.session);
    tell("changed", {});
    await reload();
  } catch (error) {
    say(error.message);
  }
}
