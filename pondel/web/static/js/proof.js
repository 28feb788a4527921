// The figures of Proof, over the loop that the deck plays.
import { about } from "./api.js";
import { question } from "./questions.js";
import { fragment } from "./stage.js";
import { on } from "./state.js";

const place = () => document.getElementById("proof-figures");

const { now: load, soon } = question(
  async () => {
    const box = place();
    if (box) await fragment(about("proof/figures"), box);
  },
  (message) => place()?.replaceChildren(message),
  300,
);

export function start() {
  on("view", load);
  on("changed", soon);
  on("loop", soon);
  load();
}
