// The chain of moves: add, reorder by drag and keys, copy, sections; and what is wrong with the move in view.
import { about, say } from "./api.js";
import { edit } from "./edits.js";
import { write } from "./plots.js";
import { atRest } from "./questions.js";
import { followSettings, fragment, go, reload } from "./stage.js";
import { on, state } from "./state.js";

async function doing(work) {
  try {
    await work();
  } catch (error) {
    say(error.message);
  }
}

const movesOf = (part, move = null) => {
  const query = new URLSearchParams({ part });
  if (move) query.set("move", move);
  return `/sessions/${state.facts.id}/moves?${query}`;
};

function add(button) {
  const form = document.getElementById("add-move");
  const [choice] = form.querySelector("select").selectedOptions;
  const kind = choice.value;
  const { part } = form.dataset;
  const op = "ties" in choice.dataset ? "give way" : button.dataset.add;
  const { leader, zone } = state.view;
  const fight = op === "give way" ? { leader, start_s: state.loop.start_s, low_hz: zone?.low_hz, high_hz: zone?.high_hz } : {};
  doing(async () => {
    const answer = await edit({ op, part, kind, ...fight });
    if (answer) await go(movesOf(part, answer.move.move), { focus: `chain-${answer.move.move}` });
  });
}

function wireChain() {
  const chain = document.getElementById("chain");
  if (!chain) return;
  const items = [...chain.children];
  const reorder = (move, to) => doing(async () => {
    await edit({ op: "reorder move", part: chain.dataset.part, move, to });
    await reload({ focus: `chain-${move}` });
  });
  let dragged = null;
  items.forEach((item, n) => {
    item.ondragstart = (event) => {
      dragged = item.dataset.move;
      event.dataTransfer.effectAllowed = "move";
    };
    item.ondragover = (event) => {
      if (!dragged) return;
      event.preventDefault();
      item.classList.add("over");
    };
    item.ondragleave = () => item.classList.remove("over");
    item.ondrop = (event) => {
      event.preventDefault();
      if (dragged && dragged !== item.dataset.move) reorder(dragged, n);
      dragged = null;
    };
    item.onkeydown = (event) => {
      if (!event.altKey || !["ArrowUp", "ArrowDown"].includes(event.key)) return;
      event.preventDefault();
      reorder(item.dataset.move, Math.max(0, n + (event.key === "ArrowUp" ? -1 : 1)));
    };
  });
}

/** A kind that makes no room for another part is added plain only. */
function wireKinds() {
  const kinds = /** @type {?HTMLSelectElement} */ (document.getElementById("add-kind"));
  if (!kinds) return;
  const button = /** @type {HTMLButtonElement} */ (document.getElementById("add-for"));
  kinds.onchange = () => (button.disabled = "plain" in kinds.selectedOptions[0].dataset);
}

function wireRest() {
  wireKinds();
  for (const button of document.querySelectorAll("[data-add]")) button.onclick = () => add(button);
  for (const button of document.querySelectorAll("[data-copy]")) {
    button.onclick = () => {
      const to = [...document.querySelectorAll("#copy-to input:checked")].map((box) => box.value);
      doing(async () => {
        await edit({ op: "copy moves", part: state.view.part, move: button.dataset.copy || null, to });
        say(`Copied to ${to.length} ${to.length === 1 ? "part" : "parts"}.`, 4);
        await reload();
      });
    };
  }
  const sections = document.getElementById("move-sections");
  if (sections) {
    sections.onchange = () => {
      const value = [...sections.querySelectorAll("input:checked")].map((box) => box.value);
      doing(async () => {
        await edit({ op: "set move", part: sections.dataset.part, move: sections.dataset.move, field: "sections", value }).finally(reload);
      });
    };
  }
}

async function checks() {
  const place = document.getElementById("checks");
  if (!place) return;
  const { part, move } = state.view;
  await doing(() => fragment(about("moves/checks", { part, move }), place));
}

/** The line of a move in the chain says what the move does now. */
function showBrief({ move, brief }) {
  const place = document.querySelector(`#chain [data-move="${CSS.escape(move ?? "")}"] [data-brief]`);
  if (place && brief) write(place, brief);
}

export function start() {
  on("value", showBrief);
  const soon = atRest(checks, 500);
  on("view", () => {
    wireChain();
    wireRest();
    soon();
  });
  on("changed", soon);
  on("changed", atRest(() => doing(followSettings), 500));
  on("loop", soon);
}
