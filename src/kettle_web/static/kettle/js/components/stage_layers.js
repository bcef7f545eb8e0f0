/**
 * Layers of the program are taken hold of while recording: moved, sized, and moved by arrow keys.
 * What fills the frame stays where it is.
 *
 * @typedef {{id: string, name: string, turn: number, box: import("../lib/table_geometry.js").Box}} Layer
 */
import { dragging } from "../lib/dragging.js";
import { middleOf, resized, wholeBox } from "../lib/table_geometry.js";

const SVG = "http://www.w3.org/2000/svg";
const SEND_MS = 90;
/** What the engine tells may have been told so long before. */
const TOLD_LATE_MS = 600;
const CORNERS = [
  [-1, -1],
  [1, -1],
  [1, 1],
  [-1, 1],
];
const STROKE_PX = 26;
const STEP_PX = 10;

/** @returns {{destroy: () => void}} */
export function mount() {
  const stop = new AbortController();
  const svg = /** @type {SVGSVGElement | null} */ (document.querySelector("[data-stage]"));
  const cues = /** @type {HTMLFormElement} */ (document.querySelector("[data-cues]"));
  if (!svg) return { destroy: () => {} };
  const [width, height] = (svg.dataset.frame ?? "").split(" ").map(Number);
  /** @type {Layer[]} */
  let layers = [];
  let scene = "";
  let chosen = "";
  let sentAt = 0;
  let answeredAt = 0;
  let isSending = false;
  /** @type {Layer | null} */
  let next = null;
  let timer = 0;

  const make = (
    /** @type {string} */ name,
    /** @type {Record<string, string | number>} */ values,
  ) => {
    const found = document.createElementNS(SVG, name);
    for (const [key, value] of Object.entries(values)) found.setAttribute(key, String(value));
    return found;
  };

  const fills = (/** @type {Layer} */ layer) =>
    layer.box.width >= width && layer.box.height >= height;

  const draw = () => {
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
    for (const [hx, hy] of CORNERS) {
      const cx = hx < 0 ? left : left + w;
      const cy = hy < 0 ? top : top + h;
      const d = `M ${cx} ${cy - hy * STROKE_PX} V ${cy} H ${cx - hx * STROKE_PX}`;
      group.append(make("path", { d, class: "stage-corner" }));
      const size = 2 * STROKE_PX;
      const spot = { x: cx - STROKE_PX, y: cy - STROKE_PX, width: size, height: size };
      group.append(make("rect", { ...spot, class: "stage-handle", "data-handle": `${hx},${hy}` }));
    }
    return group;
  };

  /** The newest place is sent, whatever comes between, and one after the other. @param {Layer} layer */
  const place = (layer) => {
    next = layer;
    void send();
  };

  const send = async () => {
    window.clearTimeout(timer);
    if (isSending || !next) return;
    const wait = sentAt + SEND_MS - performance.now();
    if (wait > 0) {
      timer = window.setTimeout(send, wait);
      return;
    }
    const layer = next;
    next = null;
    isSending = true;
    sentAt = performance.now();
    const data = new FormData(cues);
    data.set("cue", `place ${layer.id}`);
    data.set("scene", scene);
    data.set("box", JSON.stringify(wholeBox(layer.box)));
    data.set("turn", JSON.stringify(layer.turn));
    data.set("id", crypto.randomUUID());
    const headers = { Accept: "application/json" };
    try {
      const answer = await fetch(cues.action, {
        method: "POST",
        body: data,
        headers,
        signal: stop.signal,
      });
      if (!answer.ok) {
        const { error } = await answer.json();
        document.dispatchEvent(new CustomEvent("record:failed", { detail: error }));
      }
    } catch {
      // The page says by itself that the connection is lost.
    }
    isSending = false;
    answeredAt = performance.now();
    void send();
  };

  const pointOf = (/** @type {PointerEvent} */ event) => {
    const box = svg.getBoundingClientRect();
    const scale = width / box.width;
    return [(event.clientX - box.left) * scale, (event.clientY - box.top) * scale];
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
        place(layer);
      },
      drop(held, moved) {
        if (moved) place(held.layer);
      },
      putBack(held) {
        held.layer.box = held.start;
        draw();
        place(held.layer);
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
      if (!layer || !way) return;
      event.preventDefault();
      const by = event.shiftKey ? 1 : STEP_PX;
      layer.box = {
        ...layer.box,
        left: layer.box.left + way[0] * by,
        top: layer.box.top + way[1] * by,
      };
      draw();
      place(layer);
    },
    { signal: stop.signal },
  );
  document.addEventListener(
    "record:layers",
    (event) => {
      const take = /** @type {CustomEvent} */ (event).detail;
      // What is on its way, or was just answered, is newer than what the engine tells of.
      if (!take.layers || drag.moving() || isSending || next) return;
      if (performance.now() - answeredAt < TOLD_LATE_MS) return;
      const told = JSON.stringify([take.scene, take.layers]);
      if (svg.dataset.told === told) return;
      svg.dataset.told = told;
      [layers, scene] = [take.layers, take.scene];
      draw();
    },
    { signal: stop.signal },
  );
  return {
    destroy() {
      stop.abort();
      window.clearTimeout(timer);
    },
  };
}
