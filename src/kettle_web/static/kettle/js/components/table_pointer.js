import { dragging } from "../lib/dragging.js";
import { dragFrom, dragTo, picked } from "../lib/table_state.js";

const REACH_PX = 7;

/**
 * The pointer on the drawing table: layers are picked, moved, sized, cropped and turned.
 * @param {import("./table_marks.js").Table} table @param {AbortSignal} signal
 */
export function pointerOf(table, signal) {
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

  return dragging(
    table.svg,
    {
      take(event) {
        const target = /** @type {Element} */ (event.target);
        const [x, y] = framePoint(event);
        if (table.pickColour(x, y)) return null;
        const kind = kindAt(target);
        if (!kind) {
          if (table.selected().length) table.choose([]);
          return null;
        }
        const id = target.closest("[data-layer]")?.getAttribute("data-layer");
        if (kind === "move" && id) {
          const there = table.selected().map((layer) => layer.id);
          if (event.shiftKey) table.choose(picked(there, id, true));
          else if (!there.includes(id)) table.choose([id]);
          document.getElementById(`layer-${id}`)?.focus({ preventScroll: true });
        }
        const handle = target.closest("[data-handle]")?.getAttribute("data-handle") ?? "0,0";
        return dragFrom(kind, x, y, handle.split(",").map(Number), table.free());
      },
      move(drag, event) {
        if (!drag.starts.size) return;
        const [x, y] = framePoint(event);
        const reach = event.ctrlKey ? -1 : REACH_PX / table.view().scale;
        const made = dragTo(drag, x, y, table.lines(), reach, event.shiftKey);
        for (const layer of table.free()) Object.assign(layer, made.changes.get(layer.id));
        table.show({ measures: true, snapped: made.snapped });
        table.tryNow();
      },
      drop(drag, moved) {
        table.show({ measures: false, snapped: [] });
        if (moved && drag.starts.size) table.put();
      },
      putBack(drag) {
        for (const layer of table.free()) Object.assign(layer, drag.starts.get(layer.id));
        table.show({ measures: false, snapped: [] });
        table.tryNow();
      },
    },
    signal,
  );
}
