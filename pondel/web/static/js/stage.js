// Switching screens without interrupting the deck.
import { getPage, getPageInTurn, say } from "./api.js";
import { inTurn } from "./channel.js";
import { remember, restore, settleFocus } from "./keep.js";
import { Order } from "./order.js";
import { learn, state, tell } from "./state.js";

export const stage = document.getElementById("stage");
const order = new Order();
/** Where the page is heading: what is drawn anew is this, not what was left. */
let heading = { url: location.href, push: false, focus: /** @type {?string} */ (null) };
let wire = () => {};

/** What is done to every screen that is shown. */
export function onShown(work) {
  wire = work;
}

/**
 * The chosen fight stays what it is wherever an address is about the same part and names no other. What a
 * form sends has names of its own: beside it the address says who has priority in view.
 */
function keepFight(address, form) {
  const { leader, part } = state.view;
  if (!leader || part === leader) return;
  const { searchParams } = address;
  if (form) searchParams.set("in_view", leader);
  else if (/\/moves$/.test(address.pathname) && searchParams.get("part") === part && !searchParams.has("leader")) {
    searchParams.set("leader", leader);
  }
}

function addressed(url, form = null) {
  const address = new URL(url, location.href);
  const inside = stage.querySelector("[data-view]");
  if (JSON.parse(inside?.dataset.view ?? "{}").loop || /\/(proof|ways|both-ways)$/.test(address.pathname)) {
    address.searchParams.set("start_s", state.loop.start_s.toFixed(4));
    address.searchParams.set("end_s", state.loop.end_s.toFixed(4));
  }
  keepFight(address, form);
  return address;
}

/**
 * Go to a screen of the session; the deck goes on playing. A `form` is sent along, and may change the session.
 * Of several that were asked for meanwhile only the newest is shown, under its own address.
 */
export function go(url, { push = true, focus = null, form = null } = {}) {
  const number = order.ask("stage");
  heading = { url: String(url), push: push || heading.push, focus: focus ?? (push ? null : heading.focus) };
  return inTurn(async () => {
    if (!form && !order.isNewest("stage", number)) return;
    const { content, address } = await getPage(addressed(form ? url : heading.url, form), { form });
    if (!order.isNewest("stage", number) || !order.show("stage", number)) return;
    show(content, address);
  });
}

/** Show the screen again, or the one the page is heading for, as the session is now. */
export const reload = ({ focus = null } = {}) => go(heading.url, { push: false, focus });

function show(content, address) {
  const kept = remember(stage);
  const { push, focus } = heading;
  stage.replaceChildren(...content.getElementById("stage").childNodes);
  window.htmx.process(stage);
  const before = state.facts.revision;
  const facts = content.getElementById("facts");
  if (facts) learn(JSON.parse(facts.textContent));
  for (const note of content.querySelectorAll("#messages .message span")) say(note.textContent);
  if (push) history.pushState({}, "", address);
  look();
  history.replaceState({}, "", here(address));
  heading = { url: location.href, push: false, focus: null };
  wire();
  restore(stage, kept.id || !push ? kept : { ...kept, id: "?" }, focus);
  if (state.facts.revision !== before) tell("changed", {});
}

/** The address of what is in view: the chosen fight, part, move and item stand in it. */
function here(address) {
  const found = new URL(address, location.href);
  const { view } = state;
  const chosen = { lanes: ["leader", "yielder"], moves: ["part", "leader", "move", "item"], intake: ["part"] }[view.stage] ?? [];
  for (const name of chosen) {
    if (view[name] == null) found.searchParams.delete(name);
    else found.searchParams.set(name, view[name]);
  }
  return found;
}

/** Read from the screen what is in view. */
export function look() {
  const shown = stage.querySelector("[data-view]");
  if (!shown) return;
  const view = JSON.parse(shown.dataset.view);
  const { leader, yielder, part } = state.view;
  const next = { leader, yielder, part, ...view };
  // A zone that was drawn stays with its fight.
  if (next.leader === leader && next.yielder === yielder) next.zone ??= state.view.zone;
  state.view = next;
  markSpine();
}

function markSpine() {
  for (const link of document.querySelectorAll("#spine a")) {
    if (link.dataset.stage === state.view.stage) link.setAttribute("aria-current", "page");
    else link.removeAttribute("aria-current");
    const goal = new URL(link.href);
    goal.search = "";
    const { leader, yielder, part } = state.view;
    if (link.dataset.stage === "lanes" && leader && yielder) goal.search = String(new URLSearchParams({ leader, yielder }));
    if (link.dataset.stage === "moves" && (yielder || part)) goal.search = String(new URLSearchParams({ part: yielder ?? part, ...(leader && yielder ? { leader } : {}) }));
    link.href = goal.href;
  }
  const title = document.querySelector(`#spine a[aria-current]`)?.textContent;
  const heading = stage.querySelector("h1")?.textContent.trim();
  if (title) document.title = [heading, title, state.facts.name, "Pondel"].filter(Boolean).join(" · ");
}

/** What was asked last of each place, to be given up for what is asked of it next. @type {Map<string, AbortController>} */
const filling = new Map();

/** Put a fragment in its place, unless something newer is asked of that place meanwhile. */
export async function fragment(url, place, get = getPageInTurn) {
  filling.get(place.id)?.abort();
  const mine = new AbortController();
  filling.set(place.id, mine);
  const isWanted = () => place.isConnected && !mine.signal.aborted;
  try {
    let found = await get(url, mine);
    // What was asked before may have come after this one there, which was given up for it: ask again.
    for (let tries = 0; found.isGivenUp && tries < 8; tries++) {
      await new Promise((done) => setTimeout(done, 150));
      if (!isWanted()) return false;
      found = await get(url, mine);
    }
    if (found.isGivenUp || !isWanted()) return false;
    fill(place, found.content.body);
    return true;
  } catch (error) {
    if (error.name === "AbortError") return false;
    throw error;
  }
}

/** What a screen says of its settings, in the places that follow them; the rest is left as it is. */
export async function followSettings() {
  if (!stage.querySelector("[data-follows]")) return;
  const { href } = location;
  const { content } = await getPageInTurn(href, {});
  if (href !== location.href) return;
  for (const place of stage.querySelectorAll("[data-follows]")) {
    const fresh = content.getElementById(place.id);
    if (fresh && fresh.innerHTML !== place.innerHTML) fill(place, fresh);
  }
}

/** @param {Element} place @param {Element} content */
function fill(place, content) {
  const kept = place.contains(document.activeElement) ? remember(place) : null;
  place.replaceChildren(...content.childNodes);
  window.htmx.process(place);
  if (kept) restore(place, kept);
  else settleFocus();
}
