/**
 * Layers are taken hold of over a picture of the program: moved, sized, and moved by arrow keys,
 * sized by plus and minus.
 * What fills the frame stays where it is.
 *
 * @typedef {{id: string, name: string, turn: number, box: import("../lib/table_geometry.js").Box}} Layer
 */
import { dragging } from "../lib/dragging.js";
import { middleOf, resized } from "../lib/table_geometry.js";

const SVG = "http://www.w3.org/2000/svg";
const CORNERS = [
  [-1, -1],
  [1, -1],
  [1, 1],
  [-1, 1],
];
/** How long the corners are on the screen; they can be taken hold of so far on either side. */
const CORNER_PX = 11;
const STEP_PX = 10;
const SIZE_STEP = 1.1;
const LEAST_PX = 16;

/**
 * @param {SVGSVGElement} svg over the picture; its viewBox is the frame
 * @param {{moved?: (layer: Layer) => void, dropped: (layer: Layer) => void}} tell `moved` on all
 *   the way, and when it was put back; `dropped` where it was let go, and after each key
 */
export function mount(svg, tell) {
  const stop = new AbortController();
  /** @type {Layer[]} */
  let layers = [];
  let chosen = "";
  let drawn = "";

  const make = (
    /** @type {string} */ name,
    /** @type {Record<string, string | number>} */ values,
  ) => {
    const found = document.createElementNS(SVG, name);
    for (const [key, value] of Object.entries(values)) found.setAttribute(key, String(value));
    return found;
  };

  const fills = (/** @type {Layer} */ layer) => {
    const frame = svg.viewBox.baseVal;
    return layer.box.width >= frame.width && layer.box.height >= frame.height;
  };

  /** All that the drawing hangs on. */
  const looks = () =>
    JSON.stringify([layers, chosen, svg.getAttribute("viewBox"), svg.getScreenCTM()?.a]);

  const draw = () => {
    drawn = looks();
    const groups = layers.filter((layer) => !fills(layer)).map(groupOf);
    const focused = document.activeElement?.getAttribute("data-layer");
    svg.replaceChildren(...groups);
    if (focused) {
      const again = /** @type {SVGElement | null} */ (
        svg.querySelector(`[data-layer="${focused}"]`)
      );
      again?.focus({ preventScroll: true });
    }
  };

  const groupOf = (/** @type {Layer} */ layer) => {
    const { left, top, width: w, height: h } = layer.box;
    const [x, y] = middleOf(layer.box);
    const group = make("g", {
      "data-layer": layer.id,
      tabindex: 0,
      role: "button",
      "aria-label": `${layer.name}: drag, or move with the arrow keys`,
      transform: `rotate(${layer.turn} ${x} ${y})`,
      class: layer.id === chosen ? "stage-layer is-chosen" : "stage-layer",
    });
    group.append(make("rect", { x: left, y: top, width: w, height: h, class: "stage-box" }));
    const corner = CORNER_PX / (svg.getScreenCTM()?.a || 1);
    for (const [hx, hy] of CORNERS) {
      const cx = hx < 0 ? left : left + w;
      const cy = hy < 0 ? top : top + h;
      const d = `M ${cx} ${cy - hy * corner} V ${cy} H ${cx - hx * corner}`;
      group.append(make("path", { d, class: "stage-corner" }));
      const spot = { x: cx - corner, y: cy - corner, width: 2 * corner, height: 2 * corner };
      group.append(make("rect", { ...spot, class: "stage-handle", "data-handle": `${hx},${hy}` }));
    }
    return group;
  };

  /** Where in the frame the pointer is, however the picture is fitted. */
  const pointOf = (/** @type {PointerEvent} */ event) => {
    const at = new DOMPoint(event.clientX, event.clientY);
    const { x, y } = at.matrixTransform(svg.getScreenCTM()?.inverse());
    return [x, y];
  };

  const drag = dragging(
    svg,
    {
      take(event) {
        const target = /** @type {Element} */ (event.target);
        const id = target.closest("[data-layer]")?.getAttribute("data-layer");
        const layer = layers.find((one) => one.id === id);
        if (!layer) return null;
        chosen = layer.id;
        draw();
        const handle = target.getAttribute("data-handle")?.split(",").map(Number);
        const [x, y] = pointOf(event);
        return { layer, start: { ...layer.box }, handle, x, y };
      },
      move(held, event) {
        const [x, y] = pointOf(event);
        const [dx, dy] = [x - held.x, y - held.y];
        const { start, handle, layer } = held;
        layer.box = handle
          ? resized(start, layer.turn, handle[0], handle[1], dx, dy, true)
          : { ...start, left: start.left + dx, top: start.top + dy };
        draw();
        tell.moved?.(layer);
      },
      drop(held, moved) {
        if (moved) tell.dropped(held.layer);
      },
      putBack(held) {
        held.layer.box = held.start;
        draw();
        tell.moved?.(held.layer);
      },
    },
    stop.signal,
  );

  const ARROWS = /** @type {Record<string, number[]>} */ ({
    ArrowLeft: [-1, 0],
    ArrowRight: [1, 0],
    ArrowUp: [0, -1],
    ArrowDown: [0, 1],
  });
  svg.addEventListener(
    "keydown",
    (event) => {
      const id = /** @type {Element} */ (event.target).getAttribute("data-layer");
      const layer = layers.find((one) => one.id === id);
      const way = ARROWS[event.key];
      const scale = { "+": SIZE_STEP, "-": 1 / SIZE_STEP }[event.key];
      if (!layer || !(way || scale)) return;
      event.preventDefault();
      event.stopPropagation();
      const by = event.shiftKey ? 1 : STEP_PX;
      layer.box = scale ? scaled(layer.box, scale) : moved(layer.box, way[0] * by, way[1] * by);
      draw();
      tell.dropped(layer);
    },
    { signal: stop.signal },
  );
  return {
    /** What looks the same stays as it is. @param {Layer[]} now @returns {boolean} whether there is one to take hold of */
    show(now) {
      layers = now;
      if (looks() !== drawn) draw();
      return svg.childElementCount > 0;
    },
    moving: drag.moving,
    destroy: () => stop.abort(),
  };
}

/** @param {import("../lib/table_geometry.js").Box} box @param {number} dx @param {number} dy */
const moved = (box, dx, dy) => ({ ...box, left: box.left + dx, top: box.top + dy });

/** About its middle. @param {import("../lib/table_geometry.js").Box} box @param {number} by */
function scaled(box, by) {
  const width = Math.max(LEAST_PX, box.width * by);
  const height = (width / box.width) * box.height;
  const [x, y] = middleOf(box);
  return { left: x - width / 2, top: y - height / 2, width, height };
}
