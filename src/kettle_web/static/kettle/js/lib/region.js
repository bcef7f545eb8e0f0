/** Boxes on a picture while they are dragged; the server's answer is what counts. */

export const SMALLEST_PX = 64;

/**
 * @typedef {{left: number, top: number, width: number, height: number}} Box
 * @param {number} value @param {number} low @param {number} high
 */
const within = (value, low, high) => Math.min(Math.max(value, low), high);
const even = (/** @type {number} */ value) => 2 * Math.round(value / 2);

/**
 * The nearest even box that lies on the picture.
 * @param {Box} box @param {number} width @param {number} height @returns {Box}
 */
export function placeBox(box, width, height) {
  const across = within(even(box.width), Math.min(SMALLEST_PX, width), width - (width % 2));
  const down = within(even(box.height), Math.min(SMALLEST_PX, height), height - (height % 2));
  return {
    left: within(even(box.left), 0, width - (width % 2) - across),
    top: within(even(box.top), 0, height - (height % 2) - down),
    width: across,
    height: down,
  };
}

/**
 * What an arrow key does to a box: it moves it, with Ctrl its right and lower sides.
 * @param {Box} box @param {string} key @param {boolean} sides @param {number} by
 * @returns {Box | null} null for another key
 */
export function boxByKey(box, key, sides, by) {
  const step = { ArrowLeft: [-by, 0], ArrowRight: [by, 0], ArrowUp: [0, -by], ArrowDown: [0, by] }[
    key
  ];
  if (!step) return null;
  const [dx, dy] = step;
  return sides
    ? { ...box, width: box.width + dx, height: box.height + dy }
    : { ...box, left: box.left + dx, top: box.top + dy };
}

/**
 * Which sides of a box the pointer takes hold of: -1 or 1 across and down, 0 and 0 for all of it.
 * @param {{left: number, top: number, right: number, bottom: number}} shown where it is shown
 * @param {number} x @param {number} y @param {number} reach in the same px
 */
export function sidesAt(shown, x, y, reach) {
  const side = (/** @type {number} */ low, /** @type {number} */ high, /** @type {number} */ at) =>
    at < low + reach ? -1 : at > high - reach ? 1 : 0;
  return [side(shown.left, shown.right, x), side(shown.top, shown.bottom, y)];
}

/**
 * A box with its sides, or all of it, moved by some px; it stays on the picture and large enough.
 * @param {Box} box @param {number[]} sides as `sidesAt` gives them
 * @param {number} dx @param {number} dy @param {number} width @param {number} height
 * @returns {Box}
 */
export function draggedBox(box, sides, dx, dy, width, height) {
  const [hx, hy] = sides;
  const across = draggedSpan(box.left, box.width, hx, dx, width, hx === 0 && hy === 0);
  const down = draggedSpan(box.top, box.height, hy, dy, height, hx === 0 && hy === 0);
  return { left: across.from, top: down.from, width: across.length, height: down.length };
}

/** @param {number} from @param {number} length @param {number} side @param {number} by @param {number} most @param {boolean} whole */
function draggedSpan(from, length, side, by, most, whole) {
  if (whole) return { from: within(from + by, 0, most - length), length };
  if (side < 0) {
    const moved = within(from + by, 0, from + length - SMALLEST_PX);
    return { from: moved, length: from + length - moved };
  }
  return { from, length: side > 0 ? within(length + by, SMALLEST_PX, most - from) : length };
}
