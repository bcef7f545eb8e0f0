import { nudged, picked } from "../lib/table_state.js";

const SETTLE_MS = 450;
const ARROWS = /** @type {Record<string, number[]>} */ ({
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, -1],
  ArrowDown: [0, 1],
});

/**
 * Keys of the drawing table: arrows move or size what is selected, Enter picks a layer, Escape
 * lets go.
 * @param {import("./table_marks.js").Table} table
 */
export function keysOf(table) {
  let timer = 0;

  const pick = (/** @type {KeyboardEvent} */ event, /** @type {string} */ id) => {
    event.preventDefault();
    const there = table.selected().map((layer) => layer.id);
    table.choose(picked(there, id, event.shiftKey));
  };

  const move = (/** @type {KeyboardEvent} */ event, /** @type {number[]} */ way) => {
    event.preventDefault();
    const by = event.shiftKey ? 10 : 1;
    for (const layer of table.free()) layer.box = nudged(layer.box, way, by, event.ctrlKey);
    table.show({ measures: true });
    table.tryNow();
    window.clearTimeout(timer);
    timer = window.setTimeout(() => {
      timer = 0;
      table.show({ measures: false });
      table.put();
    }, SETTLE_MS);
  };

  return {
    /** Whether layers were moved and are not put down yet. */
    moving: () => timer !== 0,
    /** @param {KeyboardEvent} event */
    onKey(event) {
      const target = /** @type {HTMLElement} */ (event.target);
      if (event.key === "Escape") {
        if (table.letGo()) return;
        const open = document.querySelector("dialog[open], :popover-open");
        if (table.selected().length && !open) table.choose([]);
        return;
      }
      const onSheet = table.svg.contains(target);
      const id = target.closest("[data-layer]")?.getAttribute("data-layer");
      if (id && onSheet && (event.key === "Enter" || event.key === " ")) pick(event, id);
      const way = ARROWS[event.key];
      const here = target === document.body || onSheet || target.closest("[data-choose]");
      if (way && here && table.free().length) move(event, way);
    },
    end: () => window.clearTimeout(timer),
  };
}
