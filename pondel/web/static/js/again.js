// Lists of work under way are asked for again until it is done, without disturbing who types meanwhile.
import { getPage, say } from "./api.js";
import { remember, restore } from "./keep.js";
import { reload, stage } from "./stage.js";
import { state } from "./state.js";
import { told } from "./told.js";

const AGAIN_MS = 700;
const LATER_MS = 2000;
const NOT_YET = 503;

/** Whether somebody is in the middle of typing or choosing something on the screen. */
function isTyping() {
  const field = /** @type {any} */ (document.activeElement);
  if (!field || !stage.contains(field)) return false;
  if (field.matches("select")) return true;
  return field.matches("input:not([type=checkbox], [type=radio], [type=range], [type=file])") && field.value !== field.defaultValue;
}

function ask(list, after_ms = AGAIN_MS) {
  setTimeout(() => show(list), after_ms);
}

/** Show a list as it is now; a question that failed is asked again later, so that no list stands still for good. */
export async function show(list) {
  try {
    await once(list);
  } catch (error) {
    // Not measured yet: that passes by itself.
    if (error.status !== NOT_YET) say(error.message);
    if (list.isConnected) ask(list, LATER_MS);
  }
}

/** Ask of a list that took another one's place meanwhile, maybe from an older answer, unless it asks by itself. */
function askOf(list) {
  if (list && !("poll" in list.dataset)) ask(list, 0);
}

/** The list as it is now; the whole screen when parts have come in, or it was all that was awaited. */
async function once(list) {
  if (!list.isConnected) return;
  const { content } = await getPage(location.href);
  if (!list.isConnected) return askOf(document.getElementById(list.id));
  const found = content.getElementById(list.id);
  if (!found) return reload();
  const fresh = document.adoptNode(found);
  const isBehind = "revision" in fresh.dataset && Number(fresh.dataset.revision) !== state.facts.revision;
  const isDone = "whole" in fresh.dataset && !("poll" in fresh.dataset);
  if ((isBehind || isDone) && !isTyping()) {
    return reload();
  }
  const kept = remember(list);
  const isOver = "poll" in list.dataset && !("poll" in fresh.dataset);
  list.replaceWith(fresh);
  if (isOver && fresh.dataset.done) told(fresh.dataset.done);
  window.htmx.process(fresh);
  if (kept.id || kept.open.length) restore(fresh, kept);
  if (isBehind || "poll" in fresh.dataset) ask(fresh);
}

export function wire(root) {
  for (const list of root.querySelectorAll("[data-poll]")) ask(list);
}
