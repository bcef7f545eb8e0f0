/** What dragging and keys make of layers on the drawing table: places in, places out. */
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
} from "./table_geometry.js";

/**
 * @typedef {import("./table_geometry.js").Box} Box
 * @typedef {import("./table_geometry.js").SnapLine} SnapLine
 * @typedef {import("./table_geometry.js").Placement & {id: string}} Place
 * @typedef {"move" | "size" | "crop" | "turn"} Kind
 * @typedef {{kind: Kind, x: number, y: number, handle: number[],
 *   starts: Map<string, Place>, turn: number}} Drag
 * @typedef {{box?: Box, crop?: Box, turn?: number}} Change
 */

/**
 * A drag that begins: where, by which handle, and where its layers lie then.
 * @param {Kind} kind @param {number} x @param {number} y in frame px
 * @param {number[]} handle -1, 0 or 1 across and down @param {Place[]} layers
 * @returns {Drag}
 */
export function dragFrom(kind, x, y, handle, layers) {
  const starts = new Map(layers.map((layer) => [layer.id, structuredClone(layer)]));
  const [first] = starts.values();
  const [cx, cy] = first ? middleOf(first.box) : [0, 0];
  return { kind, x, y, handle, starts, turn: degrees(x - cx, y - cy) };
}

/**
 * Where the layers of a drag lie with the pointer at a place.
 * @param {Drag} drag @param {number} x @param {number} y @param {SnapLine[]} lines
 * @param {number} reach how near a line has to be, in px; below 0 for no snapping
 * @param {boolean} free whether the aspect ratio is not kept
 * @returns {{changes: Map<string, Change>, snapped: SnapLine[]}}
 */
export function dragTo(drag, x, y, lines, reach, free) {
  const [dx, dy] = [x - drag.x, y - drag.y];
  if (drag.kind === "move") return moved(drag, dx, dy, lines, reach);
  const [first] = drag.starts.values();
  const [hx, hy] = drag.handle;
  const one = (/** @type {Change} */ change, /** @type {SnapLine[]} */ snapped = []) => ({
    changes: new Map([[first.id, change]]),
    snapped,
  });
  if (drag.kind === "turn") {
    const [cx, cy] = middleOf(first.box);
    const by = degrees(x - cx, y - cy) - drag.turn;
    return one({ turn: niceTurn(first.turn + by, reach < 0) });
  }
  if (drag.kind === "crop") {
    const made = cropped(first, hx, hy, dx, dy);
    return one({ box: wholeBox(made.box), crop: made.crop });
  }
  if (first.turn % 360 === 0) {
    const made = resizedSnapped(first.box, hx, hy, dx, dy, !free, lines, reach);
    return one({ box: roundedFrom(first.box, made.box, hx, hy) }, made.lines);
  }
  return one({ box: wholeBox(resized(first.box, first.turn, hx, hy, dx, dy, !free)) });
}

/** @param {Drag} drag @param {number} dx @param {number} dy @param {SnapLine[]} lines @param {number} reach */
function moved(drag, dx, dy, lines, reach) {
  const b = around([...drag.starts.values()].map((s) => boundsOf(s.box, s.turn)));
  const there = { left: b.left + dx, right: b.right + dx, top: b.top + dy, bottom: b.bottom + dy };
  const snap = snapBy(there, lines, reach);
  const changes = new Map();
  for (const [id, { box }] of drag.starts) {
    const left = Math.round(box.left + dx + snap.dx);
    changes.set(id, { box: { ...box, left, top: Math.round(box.top + dy + snap.dy) } });
  }
  return { changes, snapped: snap.lines };
}

/** @param {number} x @param {number} y */
const degrees = (x, y) => (Math.atan2(y, x) * 180) / Math.PI;

/**
 * On whole px, with the side that was not pulled where it was.
 * @param {Box} start @param {Box} box @param {number} hx @param {number} hy
 */
export function roundedFrom(start, box, hx, hy) {
  const [width, height] = [Math.max(1, Math.round(box.width)), Math.max(1, Math.round(box.height))];
  const left =
    hx < 0 ? start.left + start.width - width : hx > 0 ? start.left : Math.round(box.left);
  const top = hy < 0 ? start.top + start.height - height : hy > 0 ? start.top : Math.round(box.top);
  return { left, top, width, height };
}

/**
 * Moved by an arrow key; with its size, the aspect ratio kept.
 * @param {Box} box @param {number[]} way @param {number} by @param {boolean} sides whether it grows
 */
export function nudged(box, way, by, sides) {
  const [x, y] = way;
  if (!sides) return { ...box, left: box.left + x * by, top: box.top + y * by };
  const grown = x ? (box.width + x * by) / box.width : (box.height + y * by) / box.height;
  const [width, height] = [Math.round(box.width * grown), Math.round(box.height * grown)];
  return width < 8 || height < 8 ? box : { ...box, width, height };
}

/**
 * What is selected after a layer was picked: it alone, or besides what there is.
 * @param {string[]} there @param {string} id @param {boolean} besides
 */
export function picked(there, id, besides) {
  if (!besides) return [id];
  return there.includes(id) ? there.filter((x) => x !== id) : [...there, id];
}
