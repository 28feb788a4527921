// Rows of parts that fold by role or group, on the lists that the server draws; what is open stays open.
import { reload } from "./stage.js";
import { on, state } from "./state.js";

const kept = () => `pondel-open-${state.facts?.id}`;
const opened = () => new Set(JSON.parse(localStorage.getItem(kept()) ?? "[]"));

function show() {
  const open = opened();
  for (const button of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-family]"))) {
    const { family } = button.dataset;
    const rows = /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll(`[data-of="${CSS.escape(family)}"]`));
    // Of the family of the part in view all is shown.
    const isOpen = open.has(family) || [...rows].some((row) => row.matches("[aria-current]"));
    button.setAttribute("aria-expanded", String(isOpen));
    button.querySelector("[data-arrow]").textContent = isOpen ? "▾" : "▸";
    for (const row of rows) row.hidden = !isOpen;
  }
}

function turn(family) {
  const open = opened();
  if (!open.delete(family)) open.add(family);
  localStorage.setItem(kept(), JSON.stringify([...open]));
  show();
}

function wire() {
  for (const button of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-family]"))) button.onclick = () => turn(button.dataset.family);
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
