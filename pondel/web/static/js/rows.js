// Rows of parts that fold by role or group, on the lists that the server draws; what is open stays open.
import { reload } from "./stage.js";
import { on, state } from "./state.js";

const kept = () => `pondel-rows-${state.facts?.id}`;
/** By family whether it was opened or folded by hand. @returns {Record<string, boolean>} */
const chosen = () => JSON.parse(localStorage.getItem(kept()) ?? "{}");

function show() {
  const byHand = chosen();
  for (const button of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-family]"))) {
    const { family } = button.dataset;
    const rows = /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll(`[data-of="${CSS.escape(family)}"]`));
    // Until it is folded by hand, the family of the part in view is open.
    const isOpen = byHand[family] ?? [...rows].some((row) => row.matches("[aria-current]"));
    button.setAttribute("aria-expanded", String(isOpen));
    button.querySelector("[data-arrow]").textContent = isOpen ? "▾" : "▸";
    for (const row of rows) row.hidden = !isOpen;
  }
}

function turn(button) {
  const isOpen = button.getAttribute("aria-expanded") === "true";
  localStorage.setItem(kept(), JSON.stringify({ ...chosen(), [button.dataset.family]: !isOpen }));
  show();
}

function wire() {
  for (const button of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-family]"))) button.onclick = () => turn(button);
  const by = /** @type {?HTMLSelectElement} */ (document.querySelector("[data-rows]"));
  if (by) {
    by.onchange = async () => {
      document.cookie = `pondel_rows=${by.value}; path=/; max-age=31536000; samesite=strict`;
      await reload();
    };
  }
  show();
}

export function start() {
  on("view", wire);
  if (state.facts) wire();
}
