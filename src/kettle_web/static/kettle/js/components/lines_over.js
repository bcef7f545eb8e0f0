import { partsOf, placeOf } from "../lib/take_lines.js";

/**
 * @typedef {import("../lib/take_lines.js").Layout} Layout
 * @typedef {{x: number, y: number, wide: number, high: number}} Box px
 */

/**
 * What of a view stands over lines: the play head, the stretch that is marked, what lanes show.
 * They are things of their own that are moved: the page draws nothing but where they are.
 * @param {HTMLElement} place @param {number} margin where lines begin, px
 */
export function linesOver(place, margin) {
  const put = { near: boxes(place, "lines-near"), stretch: boxes(place, "lines-stretch") };
  const head = boxes(place, "lines-head");

  /** @param {Layout} all @param {import("./take_view.js").TakeView} view @param {number} width px of a line */
  return (all, view, width) => {
    const boxesOf = (/** @type {[number, number]} */ [from, until]) =>
      partsOf(all, from, until).map((part) => ({
        x: margin + part.from * width,
        y: part.line.base - 2,
        wide: Math.max(2, (part.until - part.from) * width),
        high: all.ink + 4,
      }));
    const { from, length } = view.near;
    put.stretch(view.stretch ? boxesOf(view.stretch) : []);
    put.near(view.hasLanes ? boxesOf([from, from + length]) : []);
    const { x, line } = placeOf(all, view.at);
    head([{ x: margin + x * width - 1, y: line.base - 4, wide: 2, high: all.ink + 8 }]);
  };
}

/** As many boxes of a kind as there are to be. @param {HTMLElement} place @param {string} kind */
function boxes(place, kind) {
  /** @type {HTMLElement[]} */
  const there = [];
  return (/** @type {Box[]} */ wanted) => {
    for (const [n, { x, y, wide, high }] of wanted.entries()) {
      there[n] ??= place.appendChild(document.createElement("div"));
      const { style } = there[n];
      there[n].className = kind;
      style.transform = `translate(${x}px, ${y}px)`;
      style.width = `${wide}px`;
      style.height = `${high}px`;
    }
    for (const one of there.splice(wanted.length)) one.remove();
  };
}
