// Where the focus is, how far things are scrolled and what is folded open, kept while a screen is drawn anew.

/** @typedef {{id: string, selection: ?[number, number], typed: ?string, scrolls: [string, number, number][], open: string[]}} Kept */

const SCROLLERS = ".scroll, .side, .list, .overflow-x-auto, .lanes-rows, .moves-page";
/** What had the focus and is not there yet; until it is, or the hand moves on, the heading has it. */
let awaited = { id: "", heading: /** @type {?Element} */ (null) };

/** What has the focus now. @param {Element} root @returns {Kept} */
export function remember(root) {
  const focused = document.activeElement;
  const inside = focused && root.contains(focused) ? /** @type {HTMLElement} */ (focused) : null;
  const scrolls = [...root.querySelectorAll(SCROLLERS)].map((one, n) => /** @type {[string, number, number]} */ ([nameOf(one, n), one.scrollLeft, one.scrollTop]));
  const open = [...root.querySelectorAll("details[open][id]")].map((one) => one.id);
  const kept = { id: inside?.id ?? "", selection: null, typed: null, scrolls: scrolls.filter(([, left, top]) => left || top), open };
  if (inside instanceof HTMLInputElement && inside.selectionStart != null) {
    kept.selection = [inside.selectionStart, inside.selectionEnd ?? 0];
    if (inside.value !== inside.defaultValue) kept.typed = inside.value;
  }
  return { ...kept, id: kept.id || (inside ? "?" : "") };
}

const nameOf = (element, n) => element.id || `${element.className}:${n}`;

/**
 * Bring it back; what had the focus and is gone leaves it to `instead`, or to the heading.
 * @param {Element} root @param {Kept} kept @param {?string} instead
 */
export function restore(root, kept, instead = null) {
  for (const id of kept.open) document.getElementById(id)?.setAttribute("open", "");
  const named = new Map([...root.querySelectorAll(SCROLLERS)].map((one, n) => [nameOf(one, n), one]));
  for (const [name, left, top] of kept.scrolls) named.get(name)?.scrollTo(left, top);
  awaited = { id: "", heading: null };
  if (!kept.id && !instead) return;
  const target = document.getElementById(instead ?? "") ?? document.getElementById(kept.id);
  if (target) return focusOn(target, kept);
  const heading = root.querySelector("h1") ?? root.querySelector("h2");
  awaited = { id: instead ?? kept.id, heading };
  focusOn(heading);
}

/** A picture or a list that was drawn later may hold what had the focus. */
export function settleFocus() {
  const { id, heading } = awaited;
  const target = id && document.getElementById(id);
  if (!target) return;
  awaited = { id: "", heading: null };
  if (document.activeElement === heading) focusOn(target);
}

/** @param {?Element} element @param {?Kept} kept */
function focusOn(element, kept = null) {
  const target = /** @type {?HTMLElement} */ (element);
  if (!target) return;
  if (/^H[12]$/.test(target.tagName)) target.tabIndex = -1;
  target.focus({ preventScroll: true });
  if (!(target instanceof HTMLInputElement) || !kept?.selection) return;
  if (kept.typed != null) target.value = kept.typed;
  target.setSelectionRange(...kept.selection);
}
