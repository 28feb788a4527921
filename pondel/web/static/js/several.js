// Several parts chosen at once: their role, group, trim and mute are set in one step.
import { say } from "./api.js";
import { edit } from "./edits.js";
import { reload } from "./stage.js";
import { on } from "./state.js";

/** @type {Set<string>} */
const chosen = new Set();
let last = null;

const boxes = () => /** @type {HTMLInputElement[]} */ ([...document.querySelectorAll("[data-several]")]);
const isShown = (box) => box.offsetParent !== null;

function show() {
  const bar = document.getElementById("several");
  if (!bar) return;
  bar.hidden = chosen.size === 0;
  bar.querySelector("output").textContent = `${chosen.size} part${chosen.size > 1 ? "s" : ""} chosen`;
  const all = /** @type {?HTMLInputElement} */ (document.getElementById("several-all"));
  if (!all) return;
  all.checked = chosen.size > 0 && boxes().every((box) => box.checked);
  all.indeterminate = chosen.size > 0 && !all.checked;
}

function choose(box, isOn) {
  box.checked = isOn;
  if (isOn) chosen.add(box.value);
  else chosen.delete(box.value);
}

/** With Shift everything from the last one chosen to this one. */
function pick(event) {
  const box = event.target;
  const all = boxes().filter(isShown);
  const from = all.findIndex((one) => one.value === last);
  const to = all.indexOf(box);
  const range = event.shiftKey && from >= 0 ? all.slice(Math.min(from, to), Math.max(from, to) + 1) : [box];
  for (const one of range) choose(one, box.checked);
  last = box.value;
  show();
}

/** @param {(part: string) => any} operation */
async function all(operation) {
  try {
    await edit([...chosen].map(operation));
    await reload();
  } catch (error) {
    say(error.message);
  }
}

const set = (field, value) => all((part) => ({ op: "set part", part, field, value }));

function wire() {
  const here = boxes();
  for (const id of [...chosen]) if (!here.some((box) => box.value === id)) chosen.delete(id);
  for (const box of here) {
    box.checked = chosen.has(box.value);
    box.onclick = pick;
  }
  const bar = document.getElementById("several");
  if (!bar) return;
  const every = /** @type {HTMLInputElement} */ (document.getElementById("several-all"));
  every.onclick = () => {
    for (const box of boxes().filter(isShown)) choose(box, every.checked);
    show();
  };
  const field = (name) => /** @type {HTMLSelectElement} */ (bar.querySelector(`[name="${name}"]`));
  field("role").onchange = () => field("role").value && set("role", field("role").value);
  field("group").onchange = () => field("group").value && all((part) => ({ op: "set group", part, value: field("group").value === "mix" ? null : field("group").value }));
  for (const button of /** @type {NodeListOf<HTMLButtonElement>} */ (bar.querySelectorAll("[data-several-do]"))) {
    button.onclick = () => {
      const what = button.dataset.severalDo;
      if (what === "none") {
        for (const box of boxes()) choose(box, false);
        show();
        every.focus();
      } else if (what === "trim") {
        const { target, by, keep_mix } = Object.fromEntries(new FormData(/** @type {HTMLFormElement} */ (document.getElementById("trim-form"))));
        all((part) => ({ op: "trim to", target, by, part, keep_mix: keep_mix === "1" }));
      } else set("mute", what === "mute");
    };
  }
  show();
}

export function start() {
  on("view", wire);
}
