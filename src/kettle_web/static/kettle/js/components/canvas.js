/** A canvas as large as its place, sharp on every screen. */

/** An empty one. @param {HTMLCanvasElement} canvas @param {number} width @param {number} height px */
export function sized(canvas, width, height) {
  const pen = penOf(canvas, width, height);
  pen.clearRect(0, 0, width, height);
  return pen;
}

/** What is drawn stays there where its size is the same. @param {HTMLCanvasElement} canvas @param {number} width @param {number} height px */
export function penOf(canvas, width, height) {
  const ratio = window.devicePixelRatio || 1;
  const [across, down] = [Math.round(width * ratio), Math.round(height * ratio)];
  if (canvas.width !== across || canvas.height !== down) {
    canvas.width = across;
    canvas.height = down;
    canvas.style.width = `${width}px`;
    canvas.style.height = `${height}px`;
  }
  const pen = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
  pen.setTransform(ratio, 0, 0, ratio, 0, 0);
  return pen;
}

/** The page's colours by their names. @param {string[]} names */
export function colours(...names) {
  const style = getComputedStyle(document.documentElement);
  return names.map((name) => style.getPropertyValue(`--${name}`).trim());
}

/** Does something at the next frame, once however often it is asked for. @param {() => void} draw */
function atNextFrame(draw) {
  let wanted = 0;
  return () => {
    if (!wanted)
      wanted = requestAnimationFrame(() => {
        wanted = 0;
        draw();
      });
  };
}

/**
 * Draws at the next frame after the view or the size of a place has changed.
 * @param {HTMLElement} root @param {import("./take_view.js").TakeView} view
 * @param {() => void} draw all of it
 * @param {AbortController} stop
 * @param {() => void} drawView what is another one with the view alone
 */
export function drawnWith(root, view, draw, stop, drawView = draw) {
  const [later, viewLater] = [atNextFrame(draw), atNextFrame(drawView)];
  for (const what of ["at", "stretch", "near"])
    view.addEventListener(what, viewLater, { signal: stop.signal });
  const sizes = new ResizeObserver(later);
  sizes.observe(root);
  stop.signal.addEventListener("abort", () => sizes.disconnect());
  return { draw: later, destroy: () => stop.abort() };
}

/**
 * A hole: nothing was recorded here. @param {CanvasRenderingContext2D} pen @param {number} x
 * @param {number} y @param {number} width @param {number} height @param {string} colour
 * @param {string} ground
 */
export function hole(pen, x, y, width, height, colour, ground) {
  pen.fillStyle = ground;
  pen.fillRect(x, y, width, height);
  pen.strokeStyle = colour;
  pen.lineWidth = 1;
  pen.setLineDash([3, 2]);
  pen.strokeRect(x + 0.5, y + 0.5, Math.max(1, width - 1), height - 1);
  pen.setLineDash([]);
}
