// The figures of Proof, over the loop that the deck plays, or what the address says.
import { about } from "./api.js";
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

function load() {
  figures.now();
  sides.now();
}

export function start() {
  on("view", load);
  for (const event of ["changed", "loop"]) {
    on(event, () => {
      figures.soon();
      sides.soon();
    });
  }
  load();
}
