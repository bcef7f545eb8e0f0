import { itemsOn } from "../lib/take_paper.js";
import { penOf } from "./canvas.js";

/**
 * @typedef {import("../lib/take_paper.js").Paper} Paper
 * @typedef {import("../lib/take_lines.js").Layout} Layout
 * @typedef {import("../lib/take_lines.js").Line} Line
 */

/** What is drawn of a line reaches so far above its ink and below it, in px. */
const OVER_PX = 4;

/**
 * Lines on paper: what still looks as it did is not drawn again.
 * @param {HTMLElement} place has a canvas; times stand beside it
 */
export function lineStrips(place) {
  const canvas = /** @type {HTMLCanvasElement} */ (place.querySelector("canvas"));
  /** @type {HTMLElement[]} */
  const times = [];
  /** @type {string[]} */
  let keys = [];
  /** Where lines stood. */
  let before = "";

  /**
   * @param {Paper} paper @param {Layout} all @param {number} width px
   * @param {(line: Line) => string} timeOf what stands before a line
   * @param {(pen: CanvasRenderingContext2D, paper: Paper, line: Line) => void} draw
   */
  return (paper, all, width, timeOf, draw) => {
    const pen = penOf(canvas, width, all.height);
    const laid = JSON.stringify([width, all.ink, all.lines.map((line) => line.base)]);
    if (laid !== before) {
      pen.clearRect(0, 0, width, all.height);
      keys = [];
    }
    before = laid;
    for (const [n, line] of all.lines.entries()) {
      times[n] ??= place.appendChild(document.createElement("span"));
      times[n].style.top = `${line.base + all.ink / 2}px`;
      times[n].textContent = timeOf(line);
      const here = { ...paper, ...itemsOn(paper, line.from, line.until) };
      const ink = paper.inkKey(line.from, line.until);
      const key = JSON.stringify([all.length, line.until, ink, itemsOn(here)]);
      if (keys[n] === key) continue;
      keys[n] = key;
      pen.save();
      pen.beginPath();
      pen.rect(0, line.base - OVER_PX, width, all.ink + 2 * OVER_PX);
      pen.clip();
      pen.clearRect(0, line.base - OVER_PX, width, all.ink + 2 * OVER_PX);
      draw(pen, here, line);
      pen.restore();
    }
    for (const time of times.splice(all.lines.length)) time.remove();
  };
}
