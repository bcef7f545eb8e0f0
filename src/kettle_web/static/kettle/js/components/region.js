import { boxByKey, placeBox } from "../lib/region.js";

/**
 * A region that is dragged, pulled at its sides and moved by keys on the live picture; when it
 * has come to rest its numbers go into the form, and the server's answer is drawn.
 */
export function mount() {
  const stop = new AbortController();
  const interact = /** @type {any} */ (globalThis).interact;
  /** @type {any} */
  let handled = null;
  let timer = 0;

  const attach = () => {
    handled?.unset();
    handled = null;
    const found = document.querySelector("[data-region]");
    if (!found) return;
    const region = /** @type {HTMLElement} */ (found);
    const stage = /** @type {HTMLElement} */ (region.parentElement);
    const [width, height] = [Number(region.dataset.ofWidth), Number(region.dataset.ofHeight)];
    let box = Object.fromEntries(
      ["left", "top", "width", "height"].map((name) => [name, Number(region.dataset[name])]),
    );

    const draw = () => {
      region.style.left = `${(100 * box.left) / width}%`;
      region.style.top = `${(100 * box.top) / height}%`;
      region.style.width = `${(100 * box.width) / width}%`;
      region.style.height = `${(100 * box.height) / height}%`;
      const label = region.querySelector("[data-region-size]");
      if (label) label.textContent = `${box.width} × ${box.height} px`;
    };
    const put = () => {
      const form = /** @type {HTMLFormElement} */ (document.querySelector("[data-region-form]"));
      box = placeBox(/** @type {any} */ (box), width, height);
      for (const [name, value] of Object.entries(box)) {
        /** @type {HTMLInputElement} */ (form.elements.namedItem(name)).value = String(value);
      }
      form.requestSubmit();
    };
    const scale = () => width / stage.clientWidth;

    stage.style.aspectRatio = `${width} / ${height}`;
    draw();
    handled = interact(region)
      .draggable({
        listeners: {
          move(/** @type {any} */ event) {
            const left = Math.min(Math.max(box.left + event.dx * scale(), 0), width - box.width);
            const top = Math.min(Math.max(box.top + event.dy * scale(), 0), height - box.height);
            box = { ...box, left, top };
            draw();
          },
          end: put,
        },
      })
      .resizable({
        edges: { left: true, right: true, top: true, bottom: true },
        margin: 9,
        listeners: {
          move(/** @type {any} */ event) {
            const by = scale();
            const { left, top, right, bottom } = event.deltaRect;
            const moved = {
              left: Math.max(0, box.left + left * by),
              top: Math.max(0, box.top + top * by),
              right: Math.min(width, box.left + box.width + right * by),
              bottom: Math.min(height, box.top + box.height + bottom * by),
            };
            if (moved.right - moved.left < 64 || moved.bottom - moved.top < 64) return;
            box = {
              left: moved.left,
              top: moved.top,
              width: moved.right - moved.left,
              height: moved.bottom - moved.top,
            };
            draw();
          },
          end: put,
        },
      });
    region.addEventListener("keydown", (event) => {
      const moved = boxByKey(
        /** @type {any} */ (box),
        event.key,
        event.ctrlKey,
        event.shiftKey ? 20 : 2,
      );
      if (!moved) return;
      event.preventDefault();
      box = placeBox(moved, width, height);
      draw();
      window.clearTimeout(timer);
      timer = window.setTimeout(put, 400);
    });
  };

  document.addEventListener("parts:swapped", attach, { signal: stop.signal });
  attach();
  return {
    destroy() {
      stop.abort();
      handled?.unset();
    },
  };
}
