// Finding a part by typing: of a long list only what fits is shown.
import { on } from "./state.js";

let typed = "";
const field = () => /** @type {?HTMLInputElement} */ (document.querySelector("[data-find]"));

function narrow() {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  for (const row of document.querySelectorAll("[data-findable]")) {
    const text = /** @type {HTMLElement} */ (row).dataset.findable.toLowerCase();
    row.classList.toggle("unfound", !words.every((word) => text.includes(word)));
  }
}

/** Whether there is a field to type into; it has the focus then. */
export function focus() {
  field()?.focus();
  return Boolean(field());
}

function wire() {
  const input = field();
  if (!input) return;
  input.value = typed;
  input.oninput = () => {
    typed = input.value;
    narrow();
  };
  input.onkeydown = (event) => {
    if (event.key !== "Escape") return;
    input.value = typed = "";
    narrow();
    input.blur();
  };
  narrow();
}

export function start() {
  on("view", wire);
}
