import { dragFrom, dragTo, picked } from "../lib/table_state.js";

const START_PX = 3;
const REACH_PX = 7;

/**
 * The pointer on the drawing table: layers are picked, moved, sized, cropped and turned.
 * @param {import("./table_marks.js").Table} table
 */
export function pointerOf(table) {
  /** @type {import("../lib/table_state.js").Drag | null} */
  let drag = null;

  /** @param {PointerEvent} event */
  const framePoint = (event) => {
    const box = table.svg.getBoundingClientRect();
    const { left, top, scale } = table.view();
    return [(event.clientX - box.left - left) / scale, (event.clientY - box.top - top) / scale];
  };

  /** What the pointer takes hold of. @param {Element} target */
  const kindAt = (target) => {
    if (target.closest("[data-handle]")) return table.isCropping() ? "crop" : "size";
    if (target.closest("[data-turn]")) return "turn";
    return target.closest("[data-layer]") ? "move" : null;
  };

  return {
    /** Whether layers are being dragged. */
    moving: () => drag?.moved ?? false,

    /** @param {PointerEvent} event */
    onDown(event) {
      const target = /** @type {Element} */ (event.target);
      if (event.button !== 0) return;
      const [x, y] = framePoint(event);
      if (table.pickColour(x, y)) return;
      const kind = kindAt(target);
      if (!kind) {
        if (table.selected().length) table.choose([]);
        return;
      }
      const id = target.closest("[data-layer]")?.getAttribute("data-layer");
      if (kind === "move" && id) {
        const there = table.selected().map((layer) => layer.id);
        if (event.shiftKey) table.choose(picked(there, id, true));
        else if (!there.includes(id)) table.choose([id]);
        document.getElementById(`layer-${id}`)?.focus({ preventScroll: true });
      }
      event.preventDefault();
      table.svg.setPointerCapture(event.pointerId);
      const handle = target.closest("[data-handle]")?.getAttribute("data-handle") ?? "0,0";
      drag = dragFrom(kind, x, y, handle.split(",").map(Number), table.free());
    },

    /** @param {PointerEvent} event */
    onMove(event) {
      if (!drag?.starts.size) return;
      const [x, y] = framePoint(event);
      const { scale } = table.view();
      if (!drag.moved && Math.hypot(x - drag.x, y - drag.y) * scale < START_PX) return;
      drag.moved = true;
      const reach = event.ctrlKey ? -1 : REACH_PX / scale;
      const made = dragTo(drag, x, y, table.lines(), reach, event.shiftKey);
      for (const layer of table.free()) Object.assign(layer, made.changes.get(layer.id));
      table.show({ measures: true, snapped: made.snapped });
      table.tryNow();
    },

    onUp() {
      const moved = drag?.moved;
      drag = null;
      table.show({ measures: false, snapped: [] });
      if (moved) table.put();
    },
  };
}
