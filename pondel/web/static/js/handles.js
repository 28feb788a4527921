// Handles on pictures: drag, arrow keys, wheel, Escape; each change is an edit of one drag.
import { say } from "./api.js";
import { dragging } from "./drag.js";
import { edit } from "./edits.js";
import { freshGesture, keyGesture } from "./gestures.js";
import { state } from "./state.js";
import { draw } from "./plots.js";

/** How far around its middle a handle is taken hold of. */
const REACH_PX = 12;

/** The gesture whose refusal was told: the rest of the same drag is not told again. */
let told = "";

/** Send new values, by field, of the move in view; one beyond a control's range is taken as its end. */
export function send(values, gesture) {
  const { part, move } = state.view;
  for (const [field, value] of Object.entries(values)) {
    edit({ op: "set move", part, move, field, value, to_range: true }, gesture).catch((error) => {
      if (told !== gesture) say(error.message);
      told = gesture;
    });
  }
}

/**
 * A handle as an SVG group that can be focused.
 * `range` is its value, and the least and the most it can be; `moved(event)` gives values from a pointer, `stepped(key, event)` from a key, `back` the values to return to.
 */
export function handle(svg, { x, y, id, label, words, line = null, moved, stepped, back, range, held = null, wheel = null, mark = "" }) {
  const of = document.querySelector(".controls h2")?.textContent;
  const [value, low, high] = range.map((one) => Number(one.toFixed(2)));
  const limits = { "aria-valuenow": value, "aria-valuemin": low, "aria-valuemax": high };
  const group = draw("g", { id: `handle-${id.replaceAll(".", "-")}`, class: "handle", tabindex: 0, role: "slider", "aria-label": of ? `${of}: ${label}` : label, "aria-valuetext": words, ...limits });
  if (line) {
    group.append(draw("line", { x1: x, x2: x, y1: line[0], y2: line[1], class: "handle-line" }));
    group.append(draw("rect", { x: x - REACH_PX, width: 2 * REACH_PX, y: line[0], height: line[1] - line[0], fill: "transparent" }));
  }
  group.append(draw("rect", { x: x - REACH_PX, width: 2 * REACH_PX, y: y - REACH_PX, height: 2 * REACH_PX, fill: "transparent" }));
  group.append(draw("rect", { x: x - 5.5, y: y - 7.5, width: 11, height: 15, class: "handle-grip" }));
  if (mark) group.append(draw("text", { x: x + 9, y: y + 4, class: "axis" }, mark));
  group.append(draw("title", {}, `${label}: ${words}`));
  dragging(group, {
    pressed: (event) => {
      event.preventDefault();
      event.stopPropagation();
      group.focus();
      held?.(true);
      // Taken hold of beside its middle it does not jump.
      const { left, top } = svg.getBoundingClientRect();
      return { gesture: freshGesture("handle"), dx: event.clientX - left - x, dy: line ? 0 : event.clientY - top - y };
    },
    moved: ({ clientX, clientY }, { gesture, dx, dy }) => send(moved({ clientX: clientX - dx, clientY: clientY - dy }), gesture),
    released: () => held?.(false),
    givenUp: ({ gesture }, far) => {
      if (far) send(back, gesture);
      held?.(false);
    },
  });
  group.addEventListener("keydown", (event) => {
    const values = stepped(event.key, event);
    if (!values) return;
    event.preventDefault();
    event.stopPropagation();
    send(values, keyGesture(group.id));
  });
  if (wheel) {
    group.addEventListener(
      "wheel",
      (event) => {
        if (document.activeElement !== group) return;
        event.preventDefault();
        send(wheel(event), keyGesture(group.id));
      },
      { passive: false },
    );
  }
  svg.append(group);
  return group;
}
