// The one line in which changes and screens are asked for: one after another, none of them overtaken.
import { write } from "./plots.js";
import { first } from "./questions.js";

const PATIENCE_MS = 400;
/** Settles when everything asked for so far has been answered. */
let line = Promise.resolve();
let unanswered = 0;
let saying = 0;
const saved = document.getElementById("saved");

/**
 * Work after all that was asked for before. Nothing is said of what is saved at once: a drag would chatter.
 * @template T @param {() => Promise<T>} work @returns {Promise<T>}
 */
export function inTurn(work) {
  if (unanswered++ === 0 && saved) {
    saved.setAttribute("aria-busy", "true");
    saying = setTimeout(() => write(saved, "saving"), PATIENCE_MS);
  }
  const done = line.then(() => first(work));
  line = done.then(
    () => {},
    () => {},
  ).then(rest);
  return done;
}

/** Whether all that was asked for has been answered. */
export const isAnswered = () => unanswered === 0;

function rest() {
  if (--unanswered || !saved) return;
  clearTimeout(saying);
  write(saved, "all saved");
  saved.setAttribute("aria-busy", "false");
}
