const DRAG_PX = 4;

/**
 * A click goes to a time, dragging marks a stretch.
 * @param {HTMLElement} root gets the focus @param {HTMLElement} target what is pressed on
 * @param {(event: PointerEvent) => number} timeOf
 * @param {import("./take_view.js").TakeView} view @param {AbortSignal} signal
 */
export function pointAt(root, target, timeOf, view, signal) {
  const on = { signal };
  target.addEventListener(
    "pointerdown",
    (event) => {
      if (event.button !== 0) return;
      root.focus();
      target.setPointerCapture(event.pointerId);
      const from = timeOf(event);
      const [x, y] = [event.clientX, event.clientY];
      let dragged = false;
      const move = (/** @type {PointerEvent} */ now) => {
        dragged ||= Math.hypot(now.clientX - x, now.clientY - y) >= DRAG_PX;
        if (dragged) view.mark(from, timeOf(now));
      };
      const up = () => {
        target.removeEventListener("pointermove", move);
        target.removeEventListener("pointerup", up);
        target.removeEventListener("pointercancel", up);
        if (dragged) return;
        view.forget();
        view.go(from);
      };
      target.addEventListener("pointermove", move, on);
      target.addEventListener("pointerup", up, on);
      target.addEventListener("pointercancel", up, on);
    },
    on,
  );
}

/**
 * Moves the play head by a key; with Shift the stretch's end that it was at goes along.
 * @param {KeyboardEvent} event @param {import("./take_view.js").TakeView} view @param {number} to s
 */
export function goByKey(event, view, to) {
  event.preventDefault();
  const before = view.at;
  view.go(to);
  if (!event.shiftKey) return;
  const [a, b] = view.stretch ?? [before, before];
  view.mark(Math.abs(a - before) < 1e-6 ? b : a, view.at);
}

/** Whether a key is the browser's or the system's. @param {KeyboardEvent} event */
export const isTaken = (event) => event.ctrlKey || event.metaKey || event.altKey;
