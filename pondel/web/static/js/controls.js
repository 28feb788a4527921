// Every control: drag, wheel, arrow keys, typed values with units, default, giving up.
import { noteNear } from "./beats.js";
import { say } from "./api.js";
import { accept, refuse } from "./told.js";
import { dragging } from "./drag.js";
import { edit } from "./edits.js";
import { freshGesture, keyGesture } from "./gestures.js";
import { reload } from "./stage.js";

const COARSE = 10;
const FINE = 0.1;

/** The range of a control and where a value lies on it. */
function rangeOf(box) {
  const { low, high, scale, step, optional, endless } = box.dataset;
  const [bottom, top] = [Number(low), Number(high)];
  const log = scale === "log";
  const at = (value) => (log ? Math.log(value / bottom) / Math.log(top / bottom) : (value - bottom) / (top - bottom));
  const value = (share) => {
    const s = Math.min(1, Math.max(0, share));
    return log ? bottom * (top / bottom) ** s : bottom + s * (top - bottom);
  };
  const stepped = (from, count) => {
    const to = log ? from * (1 + Number(step) / 100) ** count : from + Number(step) * count;
    return Math.min(top, Math.max(bottom, to));
  };
  return { at, value, stepped, bottom, top, optional: optional === "1", endless: endless === "1", log };
}

/** Round to what the value is shown with, so that what is read is what is meant. */
function tidy(box, value) {
  if (value == null || value === "inf") return value;
  const { unit, scale, decimals } = box.dataset;
  const plain = unit === "%" ? 2 : unit === "Hz" ? (value < 100 ? 1 : 0) : scale === "log" ? (value < 10 ? 2 : 1) : 2;
  const { bottom, top } = rangeOf(box);
  return Math.min(top, Math.max(bottom, Number(value.toFixed(Math.max(plain, unit === "%" ? 0 : Number(decimals))))));
}

function held(box) {
  const text = box.dataset.value;
  if (text === "") return null;
  return text === "inf" ? "inf" : Number(text);
}

function place(box, value) {
  const { at, top } = rangeOf(box);
  const shown = value === "inf" ? top : value;
  const track = box.querySelector(".track");
  const share = shown == null ? (box.dataset.field.includes("high_cut") ? 1 : 0) : at(shown);
  box.style.setProperty("--at", `${(100 * Math.min(1, Math.max(0, share))).toFixed(2)}%`);
  if (shown != null) track.setAttribute("aria-valuenow", String(shown));
  const { unit } = box.dataset;
  if (unit === "ms" || unit === "s") box.firstElementChild.dataset.note = noteNear(unit === "ms" ? shown / 1000 : shown);
}

/** How many values each control has sent: an answer to an older one changes nothing here. */
const sent = new WeakMap();
/** The value that holds, and its words: what a control goes back to when another one is refused. */
const holding = new WeakMap();

function hold(box) {
  holding.set(box, { value: box.dataset.value, words: box.querySelector(".track").getAttribute("aria-valuetext") });
}

function goBack(box, message) {
  const { value, words } = holding.get(box);
  const typed = box.querySelector(".typed");
  box.dataset.value = value;
  typed.value = words;
  refuse(typed, message, box.dataset.unit);
  box.querySelector(".track").setAttribute("aria-valuetext", words);
  place(box, held(box));
}

/** Send a value; the server's words for it come back into the field. */
async function put(box, value, gesture = null) {
  const mine = (sent.get(box) ?? 0) + 1;
  sent.set(box, mine);
  const typed = box.querySelector(".typed");
  const target = JSON.parse(box.dataset.target);
  try {
    const said = (await edit({ ...target, value }, gesture))?.value;
    if (!said) return;
    holding.set(box, { value: String(said.value ?? ""), words: said.words });
    if (sent.get(box) !== mine) return;
    box.dataset.value = said.value ?? "";
    typed.value = said.words;
    accept(typed);
    box.querySelector(".track").setAttribute("aria-valuetext", said.words);
    if (!box.querySelector(".dragged")) place(box, held(box));
  } catch (error) {
    if (sent.get(box) === mine) goBack(box, error.message);
  }
}

function move(box, value, gesture) {
  const rounded = tidy(box, value);
  place(box, rounded);
  box.dataset.value = rounded ?? "";
  put(box, rounded, gesture);
}

function wireDrag(box, track) {
  const at = ({ clientX }) => {
    const { left, width } = track.getBoundingClientRect();
    return rangeOf(box).value((clientX - left) / width);
  };
  dragging(track, {
    pressed: (event) => {
      track.focus();
      track.classList.add("dragged");
      return { before: held(box), gesture: freshGesture("drag"), onGrip: event.target.closest(".grip") != null };
    },
    moved: (event, { gesture }) => move(box, at(event), gesture),
    released: (event, { gesture, onGrip }, far) => {
      track.classList.remove("dragged");
      // A click beside the grip sets the value there; what a drag set last may have been drawn over meanwhile.
      if (far) place(box, held(box));
      else if (!onGrip) move(box, at(event), gesture);
    },
    givenUp: ({ before, gesture }, far) => {
      track.classList.remove("dragged");
      if (far) move(box, before, gesture);
    },
  });
}

function wireKeys(box, track) {
  track.addEventListener("keydown", (event) => {
    const gesture = keyGesture(box.querySelector(".typed").id);
    const { stepped, bottom, top, endless, optional } = rangeOf(box);
    const now = held(box);
    const from = now === "inf" ? top : (now ?? (box.dataset.field.includes("high_cut") ? top : bottom));
    const size = event.shiftKey ? FINE : 1;
    const moves = { ArrowRight: size, ArrowUp: size, ArrowLeft: -size, ArrowDown: -size, PageUp: COARSE, PageDown: -COARSE };
    if (event.key in moves) {
      const to = stepped(from, moves[event.key]);
      if (endless && now === top && moves[event.key] > 0) move(box, "inf", gesture);
      else if (optional && to === from && now != null) move(box, null, gesture);
      else move(box, to, gesture);
    } else if (event.key === "Home") move(box, bottom, gesture);
    else if (event.key === "End") move(box, top, gesture);
    else if (event.key === "Delete" || event.key === "Backspace") toDefault(box);
    else if (event.key === "Enter" || event.key === "F2") typeInto(box);
    else if (/^[\d.,−-]$/.test(event.key) && !event.ctrlKey && !event.metaKey && !event.altKey) typeInto(box, event.key);
    else return;
    event.preventDefault();
  });
}

/** Open the typed field of a control, with what was typed on its track. */
function typeInto(box, text = null) {
  const typed = box.querySelector(".typed");
  typed.focus();
  if (text == null) return;
  typed.value = text;
  typed.setSelectionRange(text.length, text.length);
}

function toDefault(box) {
  const text = box.dataset.default;
  move(box, text === "" ? null : Number(text), null);
}

function wireWheel(box, track) {
  let gesture = null;
  let last = 0;
  track.addEventListener(
    "wheel",
    (event) => {
      if (document.activeElement !== track) return;
      event.preventDefault();
      if (event.timeStamp - last > 800) gesture = freshGesture("wheel");
      last = event.timeStamp;
      const { stepped, top, bottom } = rangeOf(box);
      const now = held(box);
      const size = (event.shiftKey ? FINE : 1) * (event.deltaY < 0 ? 1 : -1);
      move(box, stepped(now === "inf" ? top : (now ?? bottom), size), gesture);
    },
    { passive: false },
  );
}

function wireNumber(box) {
  const track = box.querySelector(".track");
  const typed = box.querySelector(".typed");
  place(box, held(box));
  hold(box);
  wireDrag(box, track);
  wireKeys(box, track);
  wireWheel(box, track);
  track.addEventListener("dblclick", () => toDefault(box));
  let shown = typed.value;
  typed.addEventListener("focus", () => {
    shown = typed.value;
    typed.select();
  });
  const given = () => {
    if (typed.value === shown) return;
    shown = typed.value;
    put(box, typed.value);
  };
  typed.addEventListener("blur", given);
  typed.addEventListener("keydown", (event) => {
    if (event.key === "Escape") {
      typed.value = shown;
      accept(typed);
    } else if (event.key === "Enter") given();
    else return;
    // The control keeps the focus: its track, from which it goes on by keys.
    track.focus();
  });
}

/** @param {(said: any) => unknown} then */
async function simple(element, value, then = () => {}) {
  try {
    const answer = await edit({ ...JSON.parse(element.dataset.target), value });
    if (!answer) return;
    accept(element);
    then(answer.value ?? {});
  } catch (error) {
    if (element.matches("[data-text]") && element.isConnected) {
      element.value = element.defaultValue;
      return refuse(element, error.message, element.dataset.unit);
    }
    say(error.message);
    // The screen is shown again with the value that holds.
    reload().catch((failure) => say(failure.message));
  }
}

/** A value that was changed elsewhere, by a handle on a picture, is shown by its control too. */
export function follow({ move, field, value, words }) {
  for (const typed of /** @type {NodeListOf<HTMLInputElement>} */ (document.querySelectorAll("[data-text][data-target]"))) {
    const target = JSON.parse(typed.dataset.target);
    if (document.activeElement === typed || target.move !== move || target.field !== field) continue;
    typed.value = typed.defaultValue = words;
  }
  for (const box of document.querySelectorAll(`[data-control][data-field="${CSS.escape(field)}"]`)) {
    const typed = box.querySelector(".typed");
    if (document.activeElement === typed || box.querySelector(".dragged")) continue;
    box.dataset.value = value ?? "";
    typed.value = words;
    box.querySelector(".track").setAttribute("aria-valuetext", words);
    place(box, held(box));
    hold(box);
  }
}

/** Bring the controls of a freshly shown screen to life. */
export function wire(root) {
  for (const box of root.querySelectorAll("[data-control]")) wireNumber(box);
  for (const pick of root.querySelectorAll("[data-pick]")) {
    pick.onchange = () => simple(pick, pick.value, () => "reload" in pick.dataset && reload());
  }
  for (const box of root.querySelectorAll("[data-switch]")) box.onchange = () => simple(box, box.checked, () => "reload" in box.dataset && reload());
  for (const button of root.querySelectorAll("[data-toggle]")) {
    button.onclick = () => simple(button, button.getAttribute("aria-pressed") !== "true", () => reload());
  }
  for (const field of root.querySelectorAll("[data-text]")) {
    field.onchange = () => simple(field, field.value, ({ words }) => {
      if (words) field.value = words;
      // It holds now, and is nothing half typed that a screen drawn anew would have to keep.
      field.defaultValue = field.value;
      return "reload" in field.dataset ? reload() : null;
    });
    field.addEventListener("keydown", (event) => {
      if (event.key === "Escape") field.value = field.defaultValue;
    });
    field.addEventListener("input", () => accept(field));
  }
}
