// In which order things were asked for, and which answers are still wanted. Knows no page and no server.

/** Numbers what is asked for, place by place; an answer is late once a newer one of its place was shown. */
export class Order {
  #asked = 0;
  /** @type {Map<string, number>} */
  #shown = new Map();
  /** @type {Map<string, number>} */
  #newest = new Map();

  /** @param {string} place @returns {number} the number of a new question */
  ask(place) {
    this.#newest.set(place, ++this.#asked);
    return this.#asked;
  }

  /** Whether nothing newer was asked for at a place. @param {string} place @param {number} number */
  isNewest(place, number) {
    return this.#newest.get(place) === number;
  }

  /** Whether an answer may be shown; it is noted as shown then. @param {string} place @param {number} number */
  show(place, number) {
    if ((this.#shown.get(place) ?? 0) > number) return false;
    this.#shown.set(place, number);
    return true;
  }
}

/**
 * Changes that wait to be sent: the newest of each slot, in the order in which the slots came up.
 * @template T
 */
export class Waiting {
  /** @type {Map<string, T>} */
  #waiting = new Map();

  get size() {
    return this.#waiting.size;
  }

  /** Put one at the end; returns the older one of its slot, which is not sent any more. @param {string} slot @param {T} one */
  put(slot, one) {
    const older = this.#waiting.get(slot);
    this.#waiting.delete(slot);
    this.#waiting.set(slot, one);
    return older;
  }

  /** Take the one that waits longest, with its slot. @returns {[string, T]} */
  take() {
    const first = this.#waiting.entries().next().value;
    if (!first) throw new Error("nothing waits");
    this.#waiting.delete(first[0]);
    return first;
  }

  /** @param {string} slot */
  has(slot) {
    return this.#waiting.has(slot);
  }

  /** Give all of them up; returns them. */
  clear() {
    const all = [...this.#waiting.values()];
    this.#waiting.clear();
    return all;
  }
}

/** Work of which only so much is under way at once; what waits begins in the order in which it came. */
export class Few {
  #free;
  /** @type {(() => void)[]} */
  #waiting = [];

  /** @param {number} most */
  constructor(most) {
    this.#free = most;
  }

  /**
   * Do `work` when there is room; what was given up meanwhile is not begun.
   * @template T @param {() => Promise<T>} work @param {AbortSignal} [signal] @returns {Promise<T>}
   */
  async within(work, signal) {
    if (this.#free) this.#free--;
    else await new Promise((begin) => this.#waiting.push(() => begin(undefined)));
    try {
      signal?.throwIfAborted();
      return await work();
    } finally {
      this.#next();
    }
  }

  #next() {
    const next = this.#waiting.shift();
    if (next) next();
    else this.#free++;
  }
}

const WHERE = ["part", "move", "field", "to", "zone"];
let alone = 0;

/**
 * What an operation sets: a newer one of the same slot takes its place. One that does something rather
 * than set a value, such as to mark one hit more, has a slot of its own.
 * @param {Record<string, any> | Record<string, any>[]} operation
 */
export function slotOf(operation) {
  if (Array.isArray(operation)) return `several|${++alone}`;
  if (!operation.op.startsWith("set ")) return `${operation.op}|${++alone}`;
  const set = Object.keys(operation).filter((name) => !WHERE.includes(name));
  return [...WHERE.map((name) => operation[name]), ...set.sort().map((name) => (name === "op" ? operation.op : name))].join("|");
}
