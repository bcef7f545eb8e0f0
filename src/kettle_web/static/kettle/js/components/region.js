import { boxByKey, placeBox } from "../lib/region.js";

const SETTLE_MS = 400;
const NAMES = /** @type {const} */ (["left", "top", "width", "height"]);

/**
 * A region that is dragged, pulled at its sides and moved by keys on the live picture; when it
 * has come to rest its numbers go into the form, and the server's answer is drawn. The element
 * stays the same while parts of the page are exchanged, so that no movement is cut short.
 */
export function mount() {
  const stop = new AbortController();
  const interact = /** @type {any} */ (globalThis).interact;
  /** @type {{region: HTMLElement, follow: () => void, end: () => void} | null} */
  let current = null;

  const attach = () => {
    const found = /** @type {HTMLElement | null} */ (document.querySelector("[data-region]"));
    if (current && current.region !== found) {
      current.end();
      current = null;
    }
    if (found && !current) current = handle(found, interact);
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

/** @param {HTMLElement} region @param {any} interact */
function handle(region, interact) {
  const [width, height] = [Number(region.dataset.ofWidth), Number(region.dataset.ofHeight)];
  let box = { left: 0, top: 0, width, height };
  let moving = false;
  let timer = 0;

  const draw = () => {
    region.style.left = `${(100 * box.left) / width}%`;
    region.style.top = `${(100 * box.top) / height}%`;
    region.style.width = `${(100 * box.width) / width}%`;
    region.style.height = `${(100 * box.height) / height}%`;
    const label = region.querySelector("[data-region-size]");
    if (label) label.textContent = `${Math.round(box.width)} × ${Math.round(box.height)} px`;
  };
  const follow = () => {
    const stage = /** @type {HTMLElement} */ (region.parentElement);
    stage.style.aspectRatio = `${width} / ${height}`;
    if (moving) return;
    for (const name of NAMES) box[name] = Number(region.dataset[name]);
    draw();
  };
  const put = () => {
    const form = /** @type {HTMLFormElement} */ (document.querySelector("[data-region-form]"));
    box = placeBox(box, width, height);
    moving = false;
    for (const name of NAMES) {
      const field = /** @type {HTMLInputElement} */ (form.elements.namedItem(name));
      field.value = String(box[name]);
      region.dataset[name] = field.value;
    }
    form.requestSubmit();
  };
  const scale = () => width / /** @type {HTMLElement} */ (region.parentElement).clientWidth;
  const start = () => {
    moving = true;
    window.clearTimeout(timer);
  };

  const handled = interact(region)
    .draggable({
      listeners: {
        start,
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
        start,
        move(/** @type {any} */ event) {
          const by = scale();
          const { left, top, right, bottom } = event.deltaRect;
          const x = Math.max(0, box.left + left * by);
          const y = Math.max(0, box.top + top * by);
          const across = Math.min(width, box.left + box.width + right * by) - x;
          const down = Math.min(height, box.top + box.height + bottom * by) - y;
          if (across < 64 || down < 64) return;
          box = { left: x, top: y, width: across, height: down };
          draw();
        },
        end: put,
      },
    });
  const onKey = (/** @type {KeyboardEvent} */ event) => {
    const moved = boxByKey(box, event.key, event.ctrlKey, event.shiftKey ? 20 : 2);
    if (!moved) return;
    event.preventDefault();
    start();
    box = placeBox(moved, width, height);
    draw();
    timer = window.setTimeout(put, SETTLE_MS);
  };
  region.addEventListener("keydown", onKey);
  return {
    region,
    follow,
    end() {
      window.clearTimeout(timer);
      region.removeEventListener("keydown", onKey);
      handled.unset();
    },
  };
}
