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
