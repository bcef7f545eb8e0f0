/** The one way in which things are dragged on a page: over a sheet, a picture, a line, a lane. */

const START_PX = 3;

/**
 * Follows the pointer from where it goes down until it is let go, wherever it is meanwhile.
 * Escape puts back what was held.
 * @template Held
 * @param {HTMLElement | SVGElement} target what the pointer goes down on
 * @param {{
 *   take: (event: PointerEvent) => Held | null,
 *   move: (held: Held, event: PointerEvent) => void,
 *   drop: (held: Held, moved: boolean) => void,
 *   putBack: (held: Held) => void,
 * }} how `take` gives what is held, null for nothing; `drop` is told whether it was moved at all
 * @param {AbortSignal} signal
 * @returns {{moving: () => boolean}}
 */
export function dragging(target, how, signal) {
  /** @type {{held: Held, pointer: number, x: number, y: number, moved: boolean} | null} */
  let now = null;

  const onDown = (/** @type {PointerEvent} */ event) => {
    if (event.button !== 0 || now) return;
    const held = how.take(event);
    if (held === null) return;
    event.preventDefault();
    target.setPointerCapture(event.pointerId);
    now = { held, pointer: event.pointerId, x: event.clientX, y: event.clientY, moved: false };
  };
  const onMove = (/** @type {PointerEvent} */ event) => {
    if (now?.pointer !== event.pointerId) return;
    const way = Math.hypot(event.clientX - now.x, event.clientY - now.y);
    if (!now.moved && way < START_PX) return;
    now.moved = true;
    how.move(now.held, event);
  };
  const onUp = (/** @type {PointerEvent} */ event) => {
    if (now?.pointer !== event.pointerId) return;
    const { held, moved } = now;
    now = null;
    how.drop(held, moved);
  };
  const onKey = (/** @type {KeyboardEvent} */ event) => {
    if (event.key !== "Escape" || !now) return;
    event.stopImmediatePropagation();
    const { held, pointer } = now;
    now = null;
    target.releasePointerCapture(pointer);
    how.putBack(held);
  };

  const on = { signal };
  target.addEventListener("pointerdown", /** @type {EventListener} */ (onDown), on);
  target.addEventListener("pointermove", /** @type {EventListener} */ (onMove), on);
  target.addEventListener("pointerup", /** @type {EventListener} */ (onUp), on);
  target.addEventListener("pointercancel", /** @type {EventListener} */ (onUp), on);
  document.addEventListener("keydown", onKey, { signal, capture: true });
  return { moving: () => now?.moved ?? false };
}
