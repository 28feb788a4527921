// Sound goes first: what is only looked at is asked for when edits and sound have come to rest.

let under_way = 0;
let rested = 0;
/** Questions that wait for their time, or for their answer. */
let open = 0;

/**
 * Work that goes first: edits on their way, a sound being fetched.
 * @template T @param {() => Promise<T>} work @returns {Promise<T>}
 */
export async function first(work) {
  under_way++;
  try {
    return await work();
  } finally {
    under_way--;
    rested = performance.now();
  }
}

/** Whether something goes first just now. */
export const isHurried = () => under_way > 0;

/** Whether nothing is asked for, and nothing is about to be. */
export const isIdle = () => under_way === 0 && open === 0;

/** How much goes first just now, and how many questions wait. */
export const busy = () => ({ under_way, open });

/**
 * Do `work` after a pause of `wait_ms` in which nothing was asked for and nothing went first.
 * @param {() => unknown} work @param {number} wait_ms @returns {() => void}
 */
export function atRest(work, wait_ms) {
  let timer = 0;
  const look = () => {
    const left = under_way ? wait_ms : rested + wait_ms - performance.now();
    if (left > 1) {
      timer = setTimeout(look, left);
      return;
    }
    timer = 0;
    open--;
    work();
  };
  return () => {
    if (!timer) open++;
    clearTimeout(timer);
    timer = setTimeout(look, wait_ms);
  };
}

/**
 * A question to the server, of which only the newest matters. `ask(signal)` asks and shows,
 * `trouble(message)` shows what went wrong; `soon` gives up what was asked and asks when at rest.
 * @param {(signal: AbortSignal) => Promise<void>} ask @param {(message: string) => void} trouble
 */
export function question(ask, trouble, wait_ms = 120) {
  /** @type {?AbortController} */
  let asked = null;
  const now = async () => {
    asked?.abort();
    const mine = (asked = new AbortController());
    open++;
    try {
      await ask(mine.signal);
    } catch (error) {
      if (error.name !== "AbortError") trouble(error.message);
    } finally {
      open--;
    }
  };
  const later = atRest(now, wait_ms);
  const soon = () => {
    asked?.abort();
    later();
  };
  return { now, soon };
}
