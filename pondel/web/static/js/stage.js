// Switching screens without interrupting the deck.
import { getJSON } from "./api.js";
import { learn, state, tell } from "./state.js";

export const stage = document.getElementById("stage");

/** Go to a screen of the session; the deck goes on playing. */
export async function go(url, { push = true } = {}) {
  const address = new URL(url, location.href);
  const inside = stage.querySelector("[data-view]");
  if (JSON.parse(inside?.dataset.view ?? "{}").loop || address.pathname.endsWith("/proof")) {
    address.searchParams.set("start_s", state.loop.start_s.toFixed(4));
    address.searchParams.set("end_s", state.loop.end_s.toFixed(4));
  }
  await window.htmx.ajax("GET", address.pathname + address.search, {
    target: "#stage",
    select: "#stage > *",
    swap: "innerHTML show:none",
  });
  if (push) history.pushState({}, "", address);
  markSpine();
}

/** Learn how the session is now, unless an edit's answer told something newer meanwhile. */
export async function relearn() {
  const { revision } = state.facts;
  const facts = await getJSON(`/sessions/${state.facts.id}/facts`);
  if (state.facts.revision === revision) learn(facts);
}

/** Show the screen again, as the session is now. */
export async function reload() {
  await relearn();
  const focused = document.activeElement?.getAttribute("aria-label");
  await go(location.href, { push: false });
  if (focused) document.querySelector(`[aria-label="${CSS.escape(focused)}"]`)?.focus();
}

/** Read from the screen what is in view. */
export function look() {
  const shown = stage.querySelector("[data-view]");
  if (!shown) return;
  const view = JSON.parse(shown.dataset.view);
  const { leader, yielder, part } = state.view;
  state.view = { leader, yielder, part, ...view };
  markSpine();
  tell("view");
}

function markSpine() {
  for (const link of document.querySelectorAll("#spine a")) {
    if (link.dataset.stage === state.view.stage) link.setAttribute("aria-current", "page");
    else link.removeAttribute("aria-current");
    const here = new URL(link.href);
    here.search = "";
    const { leader, yielder, part } = state.view;
    if (link.dataset.stage === "lanes" && leader && yielder) here.search = new URLSearchParams({ leader, yielder });
    if (link.dataset.stage === "moves" && (yielder || part)) here.search = new URLSearchParams({ part: yielder ?? part });
    link.href = here;
  }
  const title = document.querySelector(`#spine a[aria-current]`)?.textContent;
  if (title) document.title = `${state.facts.name} · ${title} · Pondel`;
}
