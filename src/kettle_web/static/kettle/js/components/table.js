import { go } from "../lib/page.js";
import { around, boundsOf } from "../lib/table_geometry.js";
import { picked } from "../lib/table_state.js";
import { keysOf } from "./table_keys.js";
import { marksOn } from "./table_marks.js";
import { pointerOf } from "./table_pointer.js";

const MARGIN = { left: 42, top: 24, right: 8, bottom: 24 };
const TRY_EVERY_MS = 16;

/**
 * @typedef {import("../lib/table_geometry.js").SnapLine} SnapLine
 * @typedef {import("./table_marks.js").Table} Table
 */

/**
 * The drawing table: layers are picked, dragged, resized, cropped and turned over the picture
 * that the server composes. While they move it is told how they would lie (`live:try`); at rest
 * their places go into the form, and the server's answer is drawn.
 * @param {HTMLElement} root @param {HTMLElement} live
 */
export function mount(root, live) {
  const stop = new AbortController();
  const svg = /** @type {SVGSVGElement} */ (root.querySelector("[data-marks]"));
  const sheet = /** @type {HTMLElement} */ (root.querySelector(".sheet"));
  const marks = marksOn(svg);
  /** @type {import("./table_marks.js").TableData} */
  let data = { frame: [1920, 1080], layers: [], lines: [] };
  let view = { scale: 1, left: MARGIN.left, top: MARGIN.top, width: 1, height: 1 };
  /** @type {SnapLine[]} */
  let snapped = [];
  let cropping = false;
  let picking = false;
  let measures = false;
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
      moving: measures ? bounds : null,
    });
  };

  const fit = () => {
    const [width, height] = data.frame;
    const room = { width: root.clientWidth, height: root.clientHeight };
    const scale = Math.min(
      (room.width - MARGIN.left - MARGIN.right) / width,
      (room.height - MARGIN.top - MARGIN.bottom) / height,
    );
    view = { ...view, scale, width: width * scale, height: height * scale };
    sheet.style.left = `${view.left}px`;
    sheet.style.top = `${view.top}px`;
    sheet.style.width = `${view.width}px`;
    sheet.style.height = `${view.height}px`;
    svg.setAttribute("viewBox", `0 0 ${room.width} ${room.height}`);
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

  const setPicking = (/** @type {boolean} */ on) => {
    picking = on;
    root.dataset.picking = String(on);
    document.querySelector("[data-pick-start]")?.setAttribute("aria-pressed", String(on));
  };

  const placements = () => free().map(({ id, box, crop, turn }) => ({ id, box, crop, turn }));

  /** @type {Table} */
  const table = {
    svg,
    view: () => view,
    selected,
    free,
    isCropping: () => cropping,
    /** Lines to snap to that do not move themselves. */
    lines() {
      const moving = new Set(free().map((layer) => layer.id));
      return data.lines.filter((line) => !moving.has(line.of));
    },
    choose(ids) {
      for (const layer of data.layers) layer.selected = ids.includes(layer.id);
      cropping = false;
      tellForms();
      draw();
      const query = new URLSearchParams(ids.map((id) => ["layer", id]));
      go(`${root.dataset.address}${ids.length ? `?${query}` : ""}`);
    },
    show(what) {
      measures = what.measures ?? measures;
      snapped = what.snapped ?? snapped;
      draw();
    },
    tryNow() {
      window.clearTimeout(trying);
      const wait = TRY_EVERY_MS - (performance.now() - triedAt);
      if (wait > 0) {
        trying = window.setTimeout(table.tryNow, wait);
        return;
      }
      triedAt = performance.now();
      const detail = { scene: root.dataset.scene, layers: placements() };
      live.dispatchEvent(new CustomEvent("live:try", { detail }));
    },
    put() {
      const form = /** @type {HTMLFormElement} */ (document.querySelector("[data-placements]"));
      const field = /** @type {HTMLInputElement} */ (form.elements.namedItem("placements"));
      field.value = JSON.stringify(placements());
      tellForms();
      form.requestSubmit();
    },
    letGo() {
      const held = picking || cropping;
      setPicking(false);
      cropping = false;
      if (held) draw();
      return held;
    },
    pickColour(x, y) {
      if (!picking) return false;
      const [layer] = selected();
      const form = /** @type {HTMLFormElement} */ (document.querySelector("[data-pick]"));
      setPicking(false);
      if (!layer) return true;
      for (const [name, value] of Object.entries({ layer: layer.id, x, y })) {
        /** @type {HTMLInputElement} */ (form.elements.namedItem(name)).value = String(value);
      }
      form.requestSubmit();
      return true;
    },
  };
  const pointer = pointerOf(table, stop.signal);
  const keys = keysOf(table);

  const read = () => {
    if (pointer.moving() || keys.moving()) return;
    const found = document.querySelector("#table-data");
    if (!found) return;
    data = JSON.parse(found.textContent ?? "{}");
    draw();
  };

  const onClick = (/** @type {MouseEvent} */ event) => {
    const target = /** @type {Element} */ (event.target);
    const chip = target.closest("[data-choose]");
    if (chip) {
      event.preventDefault();
      const id = chip.getAttribute("data-choose") ?? "";
      const there = selected().map((layer) => layer.id);
      table.choose(picked(there, id, event.shiftKey));
    }
    if (target.closest("[data-pick-start]")) setPicking(!picking);
    if (target.closest("[data-crop]")) {
      cropping = !cropping;
      target.closest("[data-crop]")?.setAttribute("aria-pressed", String(cropping));
      draw();
    }
  };

  const observer = new ResizeObserver(fit);
  observer.observe(root);
  const on = { signal: stop.signal };
  document.addEventListener("keydown", keys.onKey, on);
  document.addEventListener("click", onClick, on);
  document.addEventListener("parts:swapped", read, on);
  read();
  fit();
  return {
    destroy() {
      stop.abort();
      observer.disconnect();
      keys.end();
      window.clearTimeout(trying);
    },
  };
}
