// A pointer from press to release, the same way for everything that is dragged.

/** A hand that only clicks moves by less. */
const FAR_PX = 3;

/**
 * Follow each press on an element until it is let go, wherever the pointer goes and whatever is drawn anew.
 *
 * `pressed(event)` gives what the drag is about, or null where it is not for it. `moved(event, drag)` comes once
 * the pointer went far enough to mean it, `released(event, drag, far)` at the end; `givenUp(drag, far)` instead,
 * when Escape is pressed or the system takes the pointer away, as it does when a finger scrolls the page.
 *
 * @param {Element} element
 * @param {{pressed: (event: PointerEvent & {target: Element}) => any, moved?: (event: PointerEvent, drag: any) => unknown,
 *   released?: (event: PointerEvent, drag: any, far: boolean) => unknown, givenUp?: (drag: any, far: boolean) => unknown}} by
 */
export function dragging(element, { pressed, moved, released, givenUp }) {
  element.addEventListener("pointerdown", (/** @type {PointerEvent & {target: Element}} */ event) => {
    if (event.button || !event.isPrimary) return;
    const drag = pressed(event);
    if (!drag) return;
    // The cursor stays that of the element, as far as it is still there.
    element.setPointerCapture(event.pointerId);
    const over = new AbortController();
    const listen = (type, then) => window.addEventListener(type, then, { signal: over.signal, capture: true });
    const mine = (then) => (next) => next.pointerId === event.pointerId && then(next);
    // Text that is selected where a drag begins is not dragged instead, and none is selected on the way.
    for (const type of ["selectstart", "dragstart"]) listen(type, (next) => next.preventDefault());
    let far = false;
    listen("pointermove", mine((next) => {
      far ||= Math.hypot(next.clientX - event.clientX, next.clientY - event.clientY) >= FAR_PX;
      if (far) moved?.(next, drag);
    }));
    listen("pointerup", mine((next) => {
      over.abort();
      released?.(next, drag, far);
    }));
    const giveUp = () => {
      over.abort();
      givenUp?.(drag, far);
    };
    listen("pointercancel", mine(giveUp));
    listen("keydown", (next) => {
      if (next.key !== "Escape") return;
      next.preventDefault();
      next.stopPropagation();
      giveUp();
    });
  });
}
