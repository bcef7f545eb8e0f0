import { go } from "../lib/page.js";
import {
  around,
  boundsOf,
  cropped,
  middleOf,
  niceTurn,
  resized,
  resizedSnapped,
  snapBy,
  wholeBox,
} from "../lib/table_geometry.js";
import { marksOn } from "./table_marks.js";

const MARGIN = { left: 42, top: 24, right: 8, bottom: 24 };
const START_PX = 3;
const REACH_PX = 7;
const SETTLE_MS = 450;
const TRY_EVERY_MS = 16;
const ARROWS = /** @type {Record<string, number[]>} */ ({
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, -1],
  ArrowDown: [0, 1],
});

/**
 * @typedef {import("./table_marks.js").Layer} Layer
 * @typedef {{kind: string, x: number, y: number, handle: number[], moved: boolean,
 *   starts: Map<string, Layer>, turn: number}} Drag
 */

/**
 * The drawing table: layers are picked, dragged, resized, cropped and turned over the picture
 * that the server composes. While they move it is told how they would lie (`live:try`); at rest
 * their places go into the form, and the server's answer is drawn.
 * @param {HTMLElement} table @param {HTMLElement} live
 */
export function mount(table, live) {
  const stop = new AbortController();
  const svg = /** @type {SVGSVGElement} */ (table.querySelector("[data-marks]"));
  const sheet = /** @type {HTMLElement} */ (table.querySelector(".sheet"));
  const marks = marksOn(svg);
  /** @type {import("./table_marks.js").TableData} */
  let data = { frame: [1920, 1080], layers: [], lines: [] };
  let view = { scale: 1, left: MARGIN.left, top: MARGIN.top, width: 1, height: 1 };
  /** @type {Drag | null} */
  let drag = null;
  /** @type {import("../lib/table_geometry.js").SnapLine[]} */
  let snapped = [];
  let cropping = false;
  let showMeasures = false;
  let timer = 0;
  let triedAt = 0;
  let trying = 0;

  const selected = () => data.layers.filter((layer) => layer.selected);
  const free = () => selected().filter((layer) => !layer.locked);

  const draw = () => {
    const moving = free();
    const bounds = moving.length ? around(moving.map((x) => boundsOf(x.box, x.turn))) : null;
    marks.draw(view, data, {
      cropping: cropping && selected().length === 1,
      snapped,
      moving: showMeasures ? bounds : null,
    });
  };

  const fit = () => {
    const [width, height] = data.frame;
    const room = { width: table.clientWidth, height: table.clientHeight };
    const scale = Math.min(
      (room.width - MARGIN.left - MARGIN.right) / width,
      (room.height - MARGIN.top - MARGIN.bottom) / height,
    );
    view = {
      scale,
      left: MARGIN.left,
      top: MARGIN.top,
      width: width * scale,
      height: height * scale,
    };
    sheet.style.left = `${view.left}px`;
    sheet.style.top = `${view.top}px`;
    sheet.style.width = `${view.width}px`;
    sheet.style.height = `${view.height}px`;
    svg.setAttribute("viewBox", `0 0 ${room.width} ${room.height}`);
    draw();
  };

  const read = () => {
    if (drag?.moved || timer) return;
    const found = document.querySelector("#table-data");
    if (!found) return;
    data = JSON.parse(found.textContent ?? "{}");
    draw();
  };

  /** Fields that say which layers a form is about. */
  const tellForms = () => {
    for (const place of document.querySelectorAll("[data-part=placements-layers]")) {
      place.replaceChildren(
        ...selected().map((layer) => {
          const field = document.createElement("input");
          Object.assign(field, { type: "hidden", name: "layer", value: layer.id });
          return field;
        }),
      );
    }
  };

  /** @param {string[]} ids */
  const choose = (ids) => {
    for (const layer of data.layers) layer.selected = ids.includes(layer.id);
    cropping = false;
    tellForms();
    draw();
    const query = new URLSearchParams(ids.map((id) => ["layer", id]));
    go(`${table.dataset.address}${ids.length ? `?${query}` : ""}`);
  };

  const placements = () => free().map(({ id, box, crop, turn }) => ({ id, box, crop, turn }));

  const tryNow = () => {
    window.clearTimeout(trying);
    const wait = TRY_EVERY_MS - (performance.now() - triedAt);
    if (wait > 0) {
      trying = window.setTimeout(tryNow, wait);
      return;
    }
    triedAt = performance.now();
    const detail = { scene: table.dataset.scene, layers: placements() };
    live.dispatchEvent(new CustomEvent("live:try", { detail }));
  };

  const put = () => {
    window.clearTimeout(timer);
    timer = 0;
    const form = /** @type {HTMLFormElement} */ (document.querySelector("[data-placements]"));
    const field = /** @type {HTMLInputElement} */ (form.elements.namedItem("placements"));
    field.value = JSON.stringify(placements());
    tellForms();
    form.requestSubmit();
  };

  /** Lines to snap to that do not move themselves. */
  const lines = () => {
    const moving = new Set(free().map((layer) => layer.id));
    return data.lines.filter((line) => !moving.has(line.of));
  };

  /** @param {PointerEvent} event */
  const framePoint = (event) => {
    const box = svg.getBoundingClientRect();
    return [
      (event.clientX - box.left - view.left) / view.scale,
      (event.clientY - box.top - view.top) / view.scale,
    ];
  };

  /** @param {PointerEvent} event */
  const onDown = (event) => {
    const target = /** @type {Element} */ (event.target);
    if (event.button !== 0) return;
    const [x, y] = framePoint(event);
    if (picking) {
      const [layer] = selected();
      if (layer) sendPick(layer.id, x, y);
      return;
    }
    const handle = target.closest("[data-handle]")?.getAttribute("data-handle");
    const id = target.closest("[data-layer]")?.getAttribute("data-layer");
    let kind = "";
    if (handle) kind = cropping ? "crop" : "size";
    else if (target.closest("[data-turn]")) kind = "turn";
    else if (id) kind = "move";
    if (!kind) {
      if (selected().length) choose([]);
      return;
    }
    if (kind === "move" && id) {
      const there = selected().map((layer) => layer.id);
      const chosen = there.includes(id);
      if (event.shiftKey) choose(chosen ? there.filter((x) => x !== id) : [...there, id]);
      else if (!chosen) choose([id]);
      document.getElementById(`layer-${id}`)?.focus({ preventScroll: true });
    }
    event.preventDefault();
    svg.setPointerCapture(event.pointerId);
    const starts = new Map(free().map((layer) => [layer.id, structuredClone(layer)]));
    const [first] = starts.values();
    const [cx, cy] = first ? middleOf(first.box) : [0, 0];
    const turn = (Math.atan2(y - cy, x - cx) * 180) / Math.PI;
    drag = {
      kind,
      x,
      y,
      handle: (handle ?? "0,0").split(",").map(Number),
      moved: false,
      starts,
      turn,
    };
  };

  /** @param {PointerEvent} event */
  const onMove = (event) => {
    if (!drag?.starts.size) return;
    const [x, y] = framePoint(event);
    const [dx, dy] = [x - drag.x, y - drag.y];
    if (!drag.moved && Math.hypot(dx, dy) * view.scale < START_PX) return;
    drag.moved = true;
    showMeasures = true;
    const reach = event.ctrlKey ? -1 : REACH_PX / view.scale;
    moveTo(drag, x, y, dx, dy, reach, event.shiftKey);
    draw();
    tryNow();
  };

  /** @param {Drag} now @param {number} x @param {number} y @param {number} dx @param {number} dy @param {number} reach @param {boolean} shift */
  const moveTo = (now, x, y, dx, dy, reach, shift) => {
    const [first] = now.starts.values();
    const [hx, hy] = now.handle;
    snapped = [];
    if (now.kind === "move") {
      const starts = [...now.starts.values()].map((s) => boundsOf(s.box, s.turn));
      const b = around(starts);
      const there = {
        left: b.left + dx,
        right: b.right + dx,
        top: b.top + dy,
        bottom: b.bottom + dy,
      };
      const snap = snapBy(there, lines(), reach);
      snapped = snap.lines;
      for (const layer of free()) {
        const start = now.starts.get(layer.id)?.box ?? layer.box;
        layer.box = {
          ...start,
          left: Math.round(start.left + dx + snap.dx),
          top: Math.round(start.top + dy + snap.dy),
        };
      }
      return;
    }
    const layer = data.layers.find((one) => one.id === first.id);
    if (!layer) return;
    if (now.kind === "turn") {
      const [cx, cy] = middleOf(first.box);
      const angle = (Math.atan2(y - cy, x - cx) * 180) / Math.PI;
      layer.turn = niceTurn(first.turn + angle - now.turn, reach < 0);
    } else if (now.kind === "crop") {
      const made = cropped(first, hx, hy, dx, dy);
      layer.box = wholeBox(made.box);
      layer.crop = made.crop;
    } else if (first.turn % 360 === 0) {
      const made = resizedSnapped(first.box, hx, hy, dx, dy, !shift, lines(), reach);
      snapped = made.lines;
      layer.box = roundedFrom(first.box, made.box, hx, hy);
    } else {
      layer.box = wholeBox(resized(first.box, first.turn, hx, hy, dx, dy, !shift));
    }
  };

  const onUp = () => {
    const moved = drag?.moved;
    drag = null;
    snapped = [];
    showMeasures = false;
    if (moved) put();
    draw();
  };

  /** @param {KeyboardEvent} event */
  const onKey = (event) => {
    const target = /** @type {HTMLElement} */ (event.target);
    if (event.key === "Escape") {
      if (picking || cropping) {
        setPicking(false);
        cropping = false;
        draw();
      } else if (selected().length && !document.querySelector("dialog[open], details.menu[open]"))
        choose([]);
      return;
    }
    const id = target.closest("[data-layer]")?.getAttribute("data-layer");
    if (id && svg.contains(target) && (event.key === "Enter" || event.key === " ")) {
      event.preventDefault();
      const there = selected().map((layer) => layer.id);
      choose(event.shiftKey ? [...there, id] : [id]);
      return;
    }
    const way = ARROWS[event.key];
    const here =
      target === document.body || svg.contains(target) || target.closest("[data-choose]");
    if (!way || !here || !free().length) return;
    event.preventDefault();
    const by = event.shiftKey ? 10 : 1;
    for (const layer of free()) layer.box = nudged(layer.box, way, by, event.ctrlKey);
    showMeasures = true;
    draw();
    tryNow();
    window.clearTimeout(timer);
    timer = window.setTimeout(() => {
      showMeasures = false;
      put();
    }, SETTLE_MS);
  };

  let picking = false;
  /** @param {boolean} on */
  const setPicking = (on) => {
    picking = on;
    table.dataset.picking = String(on);
    document.querySelector("[data-pick-start]")?.setAttribute("aria-pressed", String(on));
  };
  /** @param {string} layer @param {number} x @param {number} y */
  const sendPick = (layer, x, y) => {
    const form = /** @type {HTMLFormElement} */ (document.querySelector("[data-pick]"));
    for (const [name, value] of Object.entries({ layer, x, y })) {
      /** @type {HTMLInputElement} */ (form.elements.namedItem(name)).value = String(value);
    }
    setPicking(false);
    form.requestSubmit();
  };

  const onClick = (/** @type {MouseEvent} */ event) => {
    const target = /** @type {Element} */ (event.target);
    const chip = target.closest("[data-choose]");
    if (chip) {
      event.preventDefault();
      const id = chip.getAttribute("data-choose") ?? "";
      const there = selected().map((layer) => layer.id);
      choose(event.shiftKey ? [...there, id] : [id]);
    }
    if (target.closest("[data-pick-start]")) setPicking(!picking);
    if (target.closest("[data-crop]")) {
      cropping = !cropping;
      target.closest("[data-crop]")?.setAttribute("aria-pressed", String(cropping));
      draw();
    }
  };

  const observer = new ResizeObserver(fit);
  observer.observe(table);
  const on = { signal: stop.signal };
  svg.addEventListener("pointerdown", onDown, on);
  svg.addEventListener("pointermove", onMove, on);
  svg.addEventListener("pointerup", onUp, on);
  svg.addEventListener("pointercancel", onUp, on);
  document.addEventListener("keydown", onKey, on);
  document.addEventListener("click", onClick, on);
  document.addEventListener("parts:swapped", read, on);
  read();
  fit();
  return {
    destroy() {
      stop.abort();
      observer.disconnect();
      window.clearTimeout(timer);
      window.clearTimeout(trying);
    },
  };
}

/** On whole px, with the side that was not pulled where it was. @param {import("../lib/table_geometry.js").Box} start @param {import("../lib/table_geometry.js").Box} box @param {number} hx @param {number} hy */
function roundedFrom(start, box, hx, hy) {
  const [width, height] = [Math.max(1, Math.round(box.width)), Math.max(1, Math.round(box.height))];
  const left =
    hx < 0 ? start.left + start.width - width : hx > 0 ? start.left : Math.round(box.left);
  const top = hy < 0 ? start.top + start.height - height : hy > 0 ? start.top : Math.round(box.top);
  return { left, top, width, height };
}

/** Moved by an arrow key; with Ctrl its size, the aspect ratio kept. @param {import("../lib/table_geometry.js").Box} box @param {number[]} way @param {number} by @param {boolean} sides */
function nudged(box, way, by, sides) {
  const [x, y] = way;
  if (!sides) return { ...box, left: box.left + x * by, top: box.top + y * by };
  const grown = x ? (box.width + x * by) / box.width : (box.height + y * by) / box.height;
  const [width, height] = [Math.round(box.width * grown), Math.round(box.height * grown)];
  return width < 8 || height < 8 ? box : { ...box, width, height };
}
