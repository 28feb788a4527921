// Variants A, B, C ... in the top strip, flipped while playing at matched loudness; and the history.
import { about, getPage, say } from "./api.js";
import { step } from "./edits.js";
import { fragment } from "./stage.js";
import { on, state, tell } from "./state.js";

const strip = () => document.getElementById("variants");

let drawn = null;
function draw() {
  const place = strip();
  const now = JSON.stringify(state.facts.variants.map(({ name, is_open }) => [name, is_open]));
  if (!place || drawn === now) return;
  drawn = now;
  const open = state.facts.variants.find((variant) => variant.is_open);
  place.replaceChildren(
    ...state.facts.variants.map((variant) => {
      const button = document.createElement("button");
      button.type = "button";
      button.className = "variant";
      button.textContent = variant.name;
      button.setAttribute("aria-pressed", String(variant === open));
      button.title = variant === open ? `Variant ${variant.name} is open` : `Open variant ${variant.name}; V flips`;
      button.onclick = () => flip(variant.name);
      return button;
    }),
  );
  const more = document.createElement("button");
  more.type = "button";
  more.className = "variant";
  more.textContent = "+";
  more.setAttribute("aria-label", "Keep this variant and go on with a copy");
  more.onclick = () => send("variants", "Kept; the copy is open now.");
  place.append(more);
}

async function send(what, words = null) {
  // What was heard before the first flip is what all later ones are matched to.
  const isDone = await step(what, (revision) => (state.reference ??= revision));
  if (isDone && words) say(words, 4);
}

export function flip(name = null) {
  const { variants } = state.facts;
  const at = variants.findIndex((variant) => variant.is_open);
  const next = name ?? variants[(at + 1) % variants.length].name;
  if (next !== variants[at].name) send(`variants/${next}`);
}

async function history() {
  const dialog = document.getElementById("history");
  await fragment(about("history"), dialog.querySelector("[data-history]"), getPage);
  dialog.showModal();
}

/** The steps before those that are listed take the place of their button; the first of them has the focus. */
async function older(button) {
  const place = button.closest("div");
  await fragment(about("history", { since: button.dataset.older }), place, getPage);
  place.querySelector("button")?.focus();
}

function clicks(event) {
  const before = event.target.closest("[data-older]");
  if (before) older(before).catch((error) => say(error.message));
  const back = event.target.closest("[data-go-to]");
  if (back) {
    document.getElementById("history").close();
    send(`history/${back.dataset.goTo}`);
  }
  const heard = event.target.closest("[data-hear-revision]");
  if (!heard) return;
  const same = state.heardRevision === Number(heard.dataset.hearRevision);
  state.heardRevision = same ? null : Number(heard.dataset.hearRevision);
  for (const one of document.querySelectorAll("[data-hear-revision]")) one.setAttribute("aria-pressed", String(one === heard && !same));
  tell("hear");
}

export function start() {
  if (!strip()) return;
  document.getElementById("history-open").onclick = () => history().catch((error) => say(error.message));
  document.getElementById("history").addEventListener("close", () => {
    if (state.heardRevision == null) return;
    state.heardRevision = null;
    tell("hear");
  });
  document.addEventListener("click", clicks);
  on("session", draw);
  draw();
}
