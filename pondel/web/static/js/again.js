// Lists of work under way are asked for again until it is done, without disturbing who types meanwhile.
import { getPage, say } from "./api.js";
import { remember, restore } from "./keep.js";
import { reload, stage } from "./stage.js";
import { state } from "./state.js";
import { told } from "./told.js";

const AGAIN_MS = 700;

/** Whether somebody is in the middle of typing or choosing something on the screen. */
function isTyping() {
  const field = /** @type {any} */ (document.activeElement);
  if (!field || !stage.contains(field)) return false;
  if (field.matches("select")) return true;
  return field.matches("input:not([type=checkbox], [type=radio], [type=range], [type=file])") && field.value !== field.defaultValue;
}

function ask(list) {
  setTimeout(() => show(list).catch((error) => say(error.message)), AGAIN_MS);
}

/** The list as it is now; the whole screen when parts have come in, or it was all that was awaited. */
export async function show(list) {
  if (!list.isConnected) return;
  const { content } = await getPage(location.href);
  const fresh = document.adoptNode(content.getElementById(list.id));
  if (!list.isConnected) return;
  const isBehind = "revision" in fresh.dataset && Number(fresh.dataset.revision) !== state.facts.revision;
  const isDone = "whole" in fresh.dataset && !("poll" in fresh.dataset);
  if ((isBehind || isDone) && !isTyping()) {
    await reload();
    return;
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
