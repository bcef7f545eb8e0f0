import { boundsOf, pointOf, rulerStep } from "../lib/table_geometry.js";

const SVG = "http://www.w3.org/2000/svg";
const HANDLES = [
  [-1, -1],
  [0, -1],
  [1, -1],
  [1, 0],
  [1, 1],
  [0, 1],
  [-1, 1],
  [-1, 0],
];
const CURSORS = ["nwse-resize", "ns-resize", "nesw-resize", "ew-resize"];
const TAB_CHAR_PX = 6.1;

/**
 * @typedef {{
 *   svg: SVGSVGElement,
 *   view: () => {scale: number, left: number, top: number},
 *   selected: () => Layer[],
 *   free: () => Layer[],
 *   lines: () => import("../lib/table_geometry.js").SnapLine[],
 *   isCropping: () => boolean,
 *   choose: (ids: string[]) => void,
 *   show: (what: {measures?: boolean, snapped?: import("../lib/table_geometry.js").SnapLine[]}) => void,
 *   tryNow: () => void,
 *   put: () => void,
 *   letGo: () => boolean,
 *   pickColour: (x: number, y: number) => boolean,
 * }} Table what pointer and keys know of the drawing table
 */

/**
 * @typedef {import("../lib/table_geometry.js").Placement & {id: string, name: string,
 *   scale: string, shown: boolean, locked: boolean, spot: string, selected: boolean}} Layer
 * @typedef {{frame: number[], layers: Layer[], lines: import("../lib/table_geometry.js").SnapLine[]}} TableData
 * @typedef {{scale: number, left: number, top: number, width: number, height: number}} View
 */

/**
 * Draws rulers, outlines, handles and measures over the sheet; elements are kept from drawing
 * to drawing, so that focus and the pointer stay with them.
 * @param {SVGSVGElement} svg
 */
export function marksOn(svg) {
  /** @type {Map<string, SVGElement>} */
  const kept = new Map();
  /** @type {Set<string>} */
  let used = new Set();

  /** @param {string} key @param {string} tag @param {Record<string, string | number>} values @param {Element} [parent] */
  const put = (key, tag, values, parent = svg) => {
    let element = kept.get(key);
    if (!element) {
      element = /** @type {SVGElement} */ (document.createElementNS(SVG, tag));
      kept.set(key, element);
    }
    if (element.parentNode !== parent) parent.append(element);
    for (const [name, value] of Object.entries(values)) {
      const text = String(value);
      if (element.getAttribute(name) !== text) element.setAttribute(name, text);
    }
    used.add(key);
    return element;
  };
  /** @param {string} key @param {string} words @param {Record<string, string | number>} values @param {Element} [parent] */
  const text = (key, words, values, parent) => {
    const element = put(key, "text", values, parent);
    if (element.textContent !== words) element.textContent = words;
  };

  /** @param {View} view @param {number[]} frame */
  const rulers = (view, frame) => {
    const step = rulerStep(view.scale, 70);
    for (const [axis, length] of /** @type {[string, number][]} */ ([
      ["x", frame[0]],
      ["y", frame[1]],
    ])) {
      for (let at = 0; at <= length; at += step / 4) {
        const main = at % step === 0;
        const place = (axis === "x" ? view.left : view.top) + at * view.scale;
        const from = axis === "x" ? view.top - 4 : view.left - 4;
        const to = from - (main ? 8 : 4);
        const ends =
          axis === "x"
            ? { x1: place, x2: place, y1: from, y2: to }
            : { y1: place, y2: place, x1: from, x2: to };
        put(`tick-${axis}-${at}`, "line", { class: "tick", ...ends });
        if (!main) continue;
        const where =
          axis === "x"
            ? { x: place + 3, y: view.top - 8, "text-anchor": "start" }
            : { x: view.left - 7, y: place + 12, "text-anchor": "end" };
        text(`number-${axis}-${at}`, String(at), { class: "ruler", ...where });
      }
    }
  };

  /** @param {View} view @param {number[]} point */
  const shown = (view, point) => [
    view.left + point[0] * view.scale,
    view.top + point[1] * view.scale,
  ];
  /** @param {View} view @param {Layer} layer */
  const outline = (view, layer) =>
    [
      [-1, -1],
      [1, -1],
      [1, 1],
      [-1, 1],
    ]
      .map(([a, d]) => shown(view, pointOf(layer.box, layer.turn, a, d)).join(","))
      .join(" ");

  /** @param {View} view @param {Layer} layer @param {Element} tops @param {{left: number, right: number, y: number}[]} tabs */
  const drawLayer = (view, layer, tops, tabs) => {
    const key = `layer-${layer.id}`;
    const { box } = layer;
    const at = `at ${box.left}, ${box.top} px, ${box.width} × ${box.height} px`;
    const state = `${layer.locked ? ", locked" : ""}${layer.spot ? `, on the spot ${layer.spot}` : ""}`;
    const group = put(
      key,
      "g",
      {
        class: "layer",
        id: `layer-${layer.id}`,
        "data-layer": layer.id,
        "data-selected": String(layer.selected),
        "data-locked": String(layer.locked),
        tabindex: 0,
        role: "button",
        "aria-pressed": String(layer.selected),
        "aria-label": `${layer.name}, ${layer.scale}, ${at}${state}`,
      },
      put("layers", "g", {}),
    );
    put(`${key}-hit`, "polygon", { class: "hit", points: outline(view, layer) }, group);
    const b = boundsOf(layer.box, layer.turn);
    const [left, top] = shown(view, [b.left, b.top]);
    const words = [layer.name, layer.scale, layer.spot && `spot “${layer.spot}”`]
      .filter(Boolean)
      .join(" · ");
    const width = words.length * TAB_CHAR_PX + 16;
    const bottom = view.top + b.bottom * view.scale;
    // A layer that begins at the sheet's top has its tab below the sheet.
    let y = top - 21 >= view.top - 2 ? top - 21 : bottom + 2;
    y = Math.min(Math.max(y, 0), view.top + view.height + 2);
    const x = Math.min(Math.max(left, view.left), view.left + view.width - width);
    const clash = tabs.some(
      (t) => Math.abs(t.y - y) < 18 && x < t.right + 4 && x + width > t.left - 4,
    );
    if (clash && !layer.selected) return;
    tabs.push({ left: x, right: x + width, y });
    const chosen = String(layer.selected);
    const tab = put(
      `${key}-tab`,
      "g",
      { class: "tab", "data-layer": layer.id, "data-selected": chosen },
      tops,
    );
    put(`${key}-tab-box`, "rect", { x, y, width, height: 19, rx: 3 }, tab);
    text(`${key}-tab-words`, words, { x: x + 8, y: y + 13.5 }, tab);
  };

  /** @param {View} view @param {Layer} layer @param {string} key @param {Element} group @param {boolean} cropping */
  const drawSelected = (view, layer, key, group, cropping) => {
    put(`${key}-line`, "polygon", { class: "outline", points: outline(view, layer) }, group);
    if (cropping) drawWhole(view, layer, key, group);
    if (layer.locked) return;
    const name = cropping ? "crop" : "size";
    for (const [hx, hy] of HANDLES) {
      const [x, y] = shown(view, pointOf(layer.box, layer.turn, hx, hy));
      const corner = hx !== 0 && hy !== 0;
      const reach = corner ? 9 : 8;
      const d = corner
        ? `M${-hx * reach} 0H0V${-hy * reach}`
        : hx
          ? `M0 ${-reach}V${reach}`
          : `M${-reach} 0H${reach}`;
      const place = `translate(${x} ${y}) rotate(${layer.turn})`;
      const cursor = CURSORS[cursorOf(hx, hy, layer.turn)];
      const id = `${key}-${name}-${hx}-${hy}`;
      put(
        `${id}-grip`,
        "circle",
        {
          class: `grip grip-${cursor}`,
          "data-handle": `${hx},${hy}`,
          "data-of": layer.id,
          cx: x,
          cy: y,
          r: 9,
        },
        group,
      );
      put(
        id,
        "path",
        { class: `stroke ${cropping ? "stroke-crop" : ""}`, d, transform: place },
        group,
      );
    }
    if (cropping) return;
    const [x, y] = shown(view, pointOf(layer.box, layer.turn, 1, -1));
    const place = `translate(${x} ${y}) rotate(${layer.turn})`;
    put(
      `${key}-arc`,
      "path",
      { class: "arc", d: "M5 -17A22 22 0 0 1 17 -5", transform: place },
      group,
    );
    put(
      `${key}-arc-grip`,
      "path",
      {
        class: "turn-grip",
        "data-turn": layer.id,
        d: "M1 -17A18 18 0 0 1 17 -1",
        transform: place,
      },
      group,
    );
  };

  /** Where all of the picture would lie. @param {View} view @param {Layer} layer @param {string} key @param {Element} group */
  const drawWhole = (view, layer, key, group) => {
    const { box, crop, source, mirrored } = layer;
    const [sx, sy] = [box.width / crop.width, box.height / crop.height];
    const across = (source[0] / 2 - crop.left - crop.width / 2) * sx * (mirrored ? -1 : 1);
    const down = (source[1] / 2 - crop.top - crop.height / 2) * sy;
    const [w, h] = [(source[0] * sx) / box.width, (source[1] * sy) / box.height];
    const [x, y] = [(2 * across) / box.width, (2 * down) / box.height];
    const points = [
      [x - w, y - h],
      [x + w, y - h],
      [x + w, y + h],
      [x - w, y + h],
    ].map(([a, d]) => shown(view, pointOf(box, layer.turn, a, d)).join(","));
    put(`${key}-whole`, "polygon", { class: "whole", points: points.join(" ") }, group);
  };

  /** @param {View} view @param {number[]} frame @param {import("../lib/table_geometry.js").Bounds} b */
  const measures = (view, frame, b) => {
    const sides = [
      b.left <= frame[0] - b.right
        ? {
            key: "x",
            px: b.left,
            from: [0, (b.top + b.bottom) / 2],
            to: [b.left, (b.top + b.bottom) / 2],
          }
        : {
            key: "x",
            px: frame[0] - b.right,
            from: [b.right, (b.top + b.bottom) / 2],
            to: [frame[0], (b.top + b.bottom) / 2],
          },
      b.top <= frame[1] - b.bottom
        ? {
            key: "y",
            px: b.top,
            from: [(b.left + b.right) / 2, 0],
            to: [(b.left + b.right) / 2, b.top],
          }
        : {
            key: "y",
            px: frame[1] - b.bottom,
            from: [(b.left + b.right) / 2, b.bottom],
            to: [(b.left + b.right) / 2, frame[1]],
          },
    ];
    for (const { key, px, from, to } of sides) {
      if (px < 1) continue;
      const [x1, y1] = shown(view, from);
      const [x2, y2] = shown(view, to);
      put(`measure-${key}`, "line", { class: "measure", x1, y1, x2, y2 });
      const at = { x: (x1 + x2) / 2 + 5, y: (y1 + y2) / 2 - 5 };
      text(`measure-${key}-px`, `${Math.round(px)} px`, { class: "measured", ...at });
    }
  };

  /** @param {View} view @param {import("../lib/table_geometry.js").SnapLine[]} lines */
  const snapped = (view, lines) => {
    for (const line of lines) {
      const across = line.axis === "x";
      const at = (across ? view.left : view.top) + line.at * view.scale;
      const ends = across
        ? { x1: at, x2: at, y1: view.top, y2: view.top + view.height }
        : { y1: at, y2: at, x1: view.left, x2: view.left + view.width };
      put(`snap-${line.axis}`, "line", { class: "snapped", ...ends });
      const where = across ? { x: at + 5, y: view.top + 14 } : { x: view.left + 6, y: at - 5 };
      text(`snap-${line.axis}-words`, line.words, { class: "snapped-words", ...where });
    }
  };

  return {
    /**
     * @param {View} view @param {TableData} data
     * @param {{cropping: boolean, snapped: import("../lib/table_geometry.js").SnapLine[], moving: import("../lib/table_geometry.js").Bounds | null}} now
     */
    draw(view, data, now) {
      used = new Set();
      rulers(view, data.frame);
      /** @type {{left: number, right: number, y: number}[]} */
      const tabs = [];
      const layers = data.layers.filter((layer) => layer.shown || layer.selected);
      // Tabs, and over them handles, lie above all layers: what is at the back can be taken too.
      const under = put("layers", "g", {});
      const tops = put("tabs", "g", {});
      const over = put("chosen", "g", {});
      const bySelection = [
        ...layers.filter((x) => x.selected),
        ...layers.filter((x) => !x.selected),
      ];
      for (const layer of bySelection) drawLayer(view, layer, tops, tabs);
      for (const layer of layers.filter((x) => x.selected)) {
        drawSelected(view, layer, `layer-${layer.id}`, over, now.cropping);
      }
      const wanted = layers.map((layer) => kept.get(`layer-${layer.id}`));
      if (wanted.some((group, n) => group !== under.children[n])) {
        const focused = document.activeElement;
        for (const group of wanted) if (group) under.append(group);
        if (focused instanceof SVGElement && under.contains(focused)) focused.focus();
      }
      snapped(view, now.snapped);
      if (now.moving) measures(view, data.frame, now.moving);
      for (const [key, element] of kept) {
        if (used.has(key)) continue;
        element.remove();
        kept.delete(key);
      }
    },
  };
}

/** @param {number} hx @param {number} hy @param {number} turn @returns {number} */
function cursorOf(hx, hy, turn) {
  const angle = (Math.atan2(hy, hx) * 180) / Math.PI + turn;
  const eighth = ((Math.round(angle / 45) % 4) + 4) % 4;
  return [3, 0, 1, 2][eighth];
}
