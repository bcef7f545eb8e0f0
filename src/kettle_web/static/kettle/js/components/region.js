import { dragging } from "../lib/dragging.js";
import { boxByKey, draggedBox, placeBox, sidesAt } from "../lib/region.js";

const SETTLE_MS = 400;
const REACH_PX = 9;
const NAMES = /** @type {const} */ (["left", "top", "width", "height"]);
/** @param {number[]} sides what the pointer would take hold of */
function cursorOf([hx, hy]) {
  if (hx && hy) return hx === hy ? "nwse-resize" : "nesw-resize";
  return hx ? "ew-resize" : hy ? "ns-resize" : "move";
}

/**
 * A region that is dragged, pulled at its sides and moved by keys on the live picture; when it
 * has come to rest its numbers go into the form, and the server's answer is drawn. The element
 * stays the same while parts of the page are exchanged, so that no movement is cut short.
 */
export function mount() {
  const stop = new AbortController();
  /** @type {{region: HTMLElement, follow: () => void, end: () => void} | null} */
  let current = null;

  const attach = () => {
    const found = /** @type {HTMLElement | null} */ (document.querySelector("[data-region]"));
    if (current && current.region !== found) {
      current.end();
      current = null;
    }
    if (found && !current) current = handle(found);
    current?.follow();
  };

  document.addEventListener("parts:swapped", attach, { signal: stop.signal });
  attach();
  return {
    destroy() {
      stop.abort();
      current?.end();
    },
  };
}

/** @param {HTMLElement} region */
function handle(region) {
  const stop = new AbortController();
  const [width, height] = [Number(region.dataset.ofWidth), Number(region.dataset.ofHeight)];
  let box = { left: 0, top: 0, width, height };
  let timer = 0;

  const draw = () => {
    region.style.left = `${(100 * box.left) / width}%`;
    region.style.top = `${(100 * box.top) / height}%`;
    region.style.width = `${(100 * box.width) / width}%`;
    region.style.height = `${(100 * box.height) / height}%`;
    const label = region.querySelector("[data-region-size]");
    if (label) label.textContent = `${Math.round(box.width)} × ${Math.round(box.height)} px`;
  };
  const put = () => {
    const form = /** @type {HTMLFormElement} */ (document.querySelector("[data-region-form]"));
    box = placeBox(box, width, height);
    timer = 0;
    for (const name of NAMES) {
      const field = /** @type {HTMLInputElement} */ (form.elements.namedItem(name));
      field.value = String(box[name]);
      region.dataset[name] = field.value;
    }
    form.requestSubmit();
  };
  const sides = (/** @type {PointerEvent} */ event) =>
    sidesAt(region.getBoundingClientRect(), event.clientX, event.clientY, REACH_PX);

  const drag = dragging(
    region,
    {
      take(event) {
        window.clearTimeout(timer);
        timer = 0;
        return { box, sides: sides(event), x: event.clientX, y: event.clientY };
      },
      move(held, event) {
        const stage = /** @type {HTMLElement} */ (region.parentElement);
        const scale = width / stage.clientWidth;
        const [dx, dy] = [(event.clientX - held.x) * scale, (event.clientY - held.y) * scale];
        box = draggedBox(held.box, held.sides, dx, dy, width, height);
        draw();
      },
      drop(_held, moved) {
        if (moved) put();
      },
      putBack(held) {
        box = held.box;
        draw();
      },
    },
    stop.signal,
  );
  const follow = () => {
    const stage = /** @type {HTMLElement} */ (region.parentElement);
    stage.style.aspectRatio = `${width} / ${height}`;
    if (drag.moving() || timer) return;
    for (const name of NAMES) box[name] = Number(region.dataset[name]);
    draw();
  };
  const onKey = (/** @type {KeyboardEvent} */ event) => {
    const moved = boxByKey(box, event.key, event.ctrlKey, event.shiftKey ? 20 : 2);
    if (!moved) return;
    event.preventDefault();
    box = placeBox(moved, width, height);
    draw();
    window.clearTimeout(timer);
    timer = window.setTimeout(put, SETTLE_MS);
  };
  const showSides = (/** @type {PointerEvent} */ event) => {
    if (!drag.moving()) region.style.cursor = cursorOf(sides(event));
  };
  region.addEventListener("keydown", onKey, { signal: stop.signal });
  region.addEventListener("pointermove", showSides, { signal: stop.signal });
  return {
    region,
    follow,
    end() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}
