// The figures of Proof, over the loop that the deck plays, or what the address says.
import { about } from "./api.js";
import * as blind from "./blind.js";
import * as listened from "./listened.js";
import { question } from "./questions.js";
import { fragment } from "./stage.js";
import { on } from "./state.js";
import { flip } from "./variants.js";

const AGAIN_MS = 600;
const place = (name) => document.getElementById(name);

const figures = question(
  async () => {
    const box = place("proof-figures");
    if (box) await fragment(about("proof/figures"), box);
  },
  (message) => place("proof-figures")?.replaceChildren(message),
  300,
);

let again = 0;
const sides = question(
  async () => {
    const box = place("proof-sides");
    if (!box) return;
    const asked = new URLSearchParams(location.search);
    await fragment(about("proof/sides", { over: asked.get("over"), sides: asked.get("sides") }), box);
    for (const button of box.querySelectorAll("[data-variant]")) button.onclick = () => flip(button.dataset.variant);
    clearTimeout(again);
    if (box.querySelector("[data-poll]")) again = setTimeout(sides.now, AGAIN_MS);
  },
  (message) => place("proof-sides")?.replaceChildren(message),
  200,
);

let compareAgain = 0;
const references = question(
  async () => {
    const box = place("references");
    if (!box) return;
    await fragment(about("proof/references", { over: new URLSearchParams(location.search).get("over") }), box);
    clearTimeout(compareAgain);
    if (box.querySelector("[data-poll]")) compareAgain = setTimeout(references.now, AGAIN_MS);
  },
  (message) => place("references")?.replaceChildren(message),
  200,
);

const aside = question(
  async () => {
    if (place("blind")) await fragment(about("proof/blind"), place("blind"));
    blind.look();
    if (place("to-hear")) await fragment(about("proof/still-to-hear"), place("to-hear"));
  },
  (message) => place("blind")?.replaceChildren(message),
  300,
);
const list = question(
  async () => {
    if (place("to-hear")) await fragment(about("proof/still-to-hear"), place("to-hear"));
  },
  (message) => place("to-hear")?.replaceChildren(message),
  300,
);

/** Ask for the list again when something else on it was heard. */
function news(heard) {
  const ticked = [...document.querySelectorAll("#to-hear .done")].map((one) => /** @type {HTMLElement} */ (one).dataset.item);
  if (place("to-hear") && heard.join() !== ticked.join()) list.soon();
}

function load() {
  figures.now();
  sides.now();
  references.now();
  aside.now();
}

export function start() {
  on("view", load);
  for (const event of ["changed", "loop"]) {
    on(event, () => {
      figures.soon();
      sides.soon();
      references.soon();
    });
  }
  on("changed", list.soon);
  listened.start(news);
  blind.start(list.soon);
  load();
}
