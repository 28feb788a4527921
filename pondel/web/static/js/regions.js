// The regions of a screen: F6 goes round them, links at the top of the page skip to them.

/** Of compareDocumentPosition: the other one comes later. */
const FOLLOWING = 4;
const FOCUSABLE = "a[href], button:not(:disabled), input:not(:disabled, [type=hidden]), select:not(:disabled), summary, [tabindex='0']";

/** Regions that are shown, in the order of the page; what holds others is none itself. */
function regions() {
  const every = /** @type {HTMLElement[]} */ ([...document.querySelectorAll("[data-region]")]);
  return every.filter((one) => one.getClientRects().length > 0 && !one.querySelector("[data-region]"));
}

function enter(region) {
  const inside = [...region.querySelectorAll(FOCUSABLE)].find((one) => one.tabIndex >= 0 && one.getClientRects().length > 0);
  const chosen = region.querySelector("[aria-current='true']:not(.tag), [aria-current='page']");
  const target = /** @type {?HTMLElement} */ (region.matches(FOCUSABLE) ? region : (chosen ?? inside));
  if (target) return target.focus();
  region.tabIndex = -1;
  region.focus();
}

function round(back) {
  const every = regions();
  if (!every.length) return;
  const from = document.activeElement ?? document.body;
  const isAfter = (one) => Boolean(from.compareDocumentPosition(one) & FOLLOWING);
  const inside = every.findIndex((one) => one.contains(from));
  const after = every.findIndex(isAfter);
  const ahead = inside < 0 ? (after < 0 ? 0 : after) : inside + 1;
  const behind = (inside < 0 ? (after < 0 ? every.length : after) : inside) - 1;
  enter(every[(back ? behind + every.length : ahead) % every.length]);
}

/** Only links to what the screen has are offered. */
export function look() {
  for (const link of document.querySelectorAll("#skip a")) {
    const { skip } = /** @type {HTMLElement} */ (link).dataset;
    /** @type {HTMLElement} */ (link).hidden = !document.querySelector(`[data-region="${skip}"]`);
  }
}

/** Arrows through a table of links: the whole of it is one stop. */
function arrows(event) {
  const cell = event.target.closest(".matrix td, .matrix th");
  const step = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] }[event.key];
  if (!cell || !step) return;
  const rows = [...cell.closest("tbody").rows].map((row) => [...row.cells].map((one) => one.querySelector("a")));
  let row = rows.findIndex((links) => links.includes(event.target));
  let column = rows[row]?.indexOf(event.target) ?? -1;
  if (row < 0 || column < 0) return;
  event.preventDefault();
  row += step[0];
  do column += step[1];
  while (step[1] && rows[row] && column in rows[row] && !rows[row][column]);
  // Where the column meets its own row, the cell beside it is as near.
  const to = rows[row]?.[column] ?? (step[0] ? (rows[row]?.[column - 1] ?? rows[row]?.[column + 1]) : null);
  if (!to) return;
  for (const link of rows.flat()) if (link) link.tabIndex = -1;
  to.tabIndex = 0;
  to.focus();
}

export function start() {
  document.addEventListener("keydown", (event) => {
    if (event.key === "F6" && !event.ctrlKey && !event.altKey) {
      event.preventDefault();
      round(event.shiftKey);
    } else arrows(event);
  });
  document.getElementById("skip")?.addEventListener("click", (event) => {
    const link = /** @type {HTMLElement} */ (event.target).closest("a");
    const region = link && document.querySelector(`[data-region="${link.dataset.skip}"]`);
    if (!region) return;
    event.preventDefault();
    enter(region);
  });
}
