import { seen } from "../lib/levels.js";
import { SNAP_PX, snapped, snapsOf } from "../lib/snapping.js";
import { ruleTime } from "../lib/take_lanes.js";
import { layOut, partsOf, placeOf, timeAt } from "../lib/take_lines.js";
import { colours, drawnWith, hole } from "./canvas.js";
import { drawCards, drawChanged, drawFades, drawSeams } from "./cut_drawing.js";
import { lineStrips } from "./line_strips.js";
import { lineWords } from "./line_words.js";
import { linesOver } from "./lines_over.js";
import { goByKey, isTaken, pointAt } from "./pointing.js";

/** @typedef {import("../lib/take_paper.js").Paper} Paper @typedef {import("../lib/take_lines.js").Line} Line */

const MARGIN = 44;

/**
 * The whole of something in lines: the voice is the ink. Click or arrow keys go somewhere, dragging
 * or arrow keys with Shift mark a stretch; scenes and marks are dragged to other times.
 * @param {HTMLElement} root @param {() => Paper | null} paperNow what is drawn, null until it is there
 * @param {import("./take_view.js").TakeView} view
 * @param {(at: number) => number} timeHere what stands before a line that begins at a place
 */
export function mount(root, paperNow, view, timeHere = (at) => at) {
  const stop = new AbortController();
  const on = { signal: stop.signal };
  const [ink, above] = ["[data-line-ink]", "[data-line-over]"].map(
    (name) => /** @type {HTMLElement} */ (root.querySelector(name)),
  );
  const [drawStrips, drawOver] = [lineStrips(ink), linesOver(above, MARGIN)];
  /** @type {import("../lib/take_lines.js").Layout | null} */
  let layout = null;
  let width = 0;

  const draw = () => {
    const paper = paperNow();
    if (!paper) return;
    width = Math.max(100, root.clientWidth - MARGIN);
    const speeds = paper.changed.filter((one) => one.words);
    const said = speeds.map((one) => ({ at_s: one.from, words: one.words }));
    const all = layOut(paper.length_s, paper.steps, [...paper.scenes, ...paper.marks, ...said]);
    layout = all;
    /** @type {((at: number) => import("../lib/take_paper.js").Wave | null) | null} */
    let wave = null;
    const timeAtLine = (/** @type {Line} */ line) => ruleTime(timeHere(line.from), 1);
    drawStrips(paper, all, root.clientWidth, timeAtLine, (pen, here, line) => {
      wave ??= paper.ink(all.length / width);
      drawLine(pen, here, all, line, wave);
      drawCards(pen, here, all, MARGIN, width);
      drawChanged(pen, here, all, MARGIN, width);
      drawFades(pen, here, all, MARGIN, width);
      drawSeams(pen, here, all, MARGIN, width);
    });
    words.lay(paper, all, said, width);
    root.setAttribute("aria-valuemax", paper.length_s.toFixed(3));
    drawView();
  };

  const drawView = () => {
    if (!layout) return;
    drawOver(layout, view, width);
    root.setAttribute("aria-valuenow", view.at.toFixed(3));
    root.setAttribute("aria-valuetext", ruleTime(view.at, 0.001));
  };

  /** @param {CanvasRenderingContext2D} pen @param {Paper} paper @param {import("../lib/take_lines.js").Layout} all @param {Line} line @param {(at: number) => import("../lib/take_paper.js").Wave | null} wave */
  function drawLine(pen, paper, all, line, wave) {
    const [ink, pale, ochre, brick, ground, rule, graphite] = colours(
      "ink",
      "sand-light",
      "ochre",
      "brick",
      "paper",
      "rule",
      "graphite",
    );
    pen.fillStyle = pale;
    for (const [a, b] of paper.quiet)
      for (const part of partsOf(all, a, b))
        pen.fillRect(xOf(part.from), part.line.base, (part.until - part.from) * width, all.ink);
    const middle = line.base + all.ink / 2;
    pen.fillStyle = rule;
    pen.fillRect(MARGIN, middle, ((line.until - line.from) / all.length) * width, 1);
    waves(pen, wave, line, middle, all.length / width, ink);
    for (const [a, b] of paper.gaps)
      for (const part of partsOf(all, a, b))
        hole(
          pen,
          xOf(part.from),
          part.line.base,
          Math.max(3, (part.until - part.from) * width),
          all.ink,
          ochre,
          ground,
        );
    pen.fillStyle = brick;
    for (const at of paper.clips) {
      const place = placeOf(all, at);
      pen.fillRect(xOf(place.x), place.line.base - 1, 2, 6);
    }
    for (const at of paper.breaks) {
      const place = placeOf(all, at);
      pen.fillStyle = ground;
      pen.fillRect(xOf(place.x) - 3, place.line.base - 1, 6, all.ink + 2);
      pen.fillStyle = graphite;
      pen.fillRect(xOf(place.x) - 3, place.line.base - 1, 1, all.ink + 2);
      pen.fillRect(xOf(place.x) + 2, place.line.base - 1, 1, all.ink + 2);
    }
  }

  /** @param {CanvasRenderingContext2D} pen @param {(at: number) => import("../lib/take_paper.js").Wave | null} wave @param {Line} line @param {number} middle @param {number} px @param {string} ink */
  function waves(pen, wave, line, middle, px, ink) {
    const half = (layout?.ink ?? 0) / 2;
    pen.fillStyle = ink;
    for (let x = 0; x < Math.min(width, (line.until - line.from) / px); x += 1) {
      const here = wave(line.from + x * px);
      const found = here && seen(here.part, here.step_s, here.record, here.record + px);
      if (!found) continue;
      const [least, most] = found.map((one) => Math.max(-1, Math.min(1, one * here.grown)));
      pen.fillRect(MARGIN + x, middle - most * half, 1, Math.max(1, (most - least) * half));
    }
  }

  const xOf = (/** @type {number} */ share) => MARGIN + share * width;

  const timeOf = (/** @type {import("./line_words.js").Where} */ event) => {
    const box = ink.getBoundingClientRect();
    const x = (event.clientX - box.left - MARGIN) / width;
    const paper = paperNow();
    if (!layout || !paper) return 0;
    const at = timeAt(layout, x, event.clientY - box.top, view.total);
    // With Alt the place is just where it is.
    return event.altKey ? at : snapped(at, snapsOf(paper), (SNAP_PX * layout.length) / width);
  };

  const words = lineWords(root, timeOf, view, stop.signal, MARGIN);
  pointAt(root, root, timeOf, view, stop.signal);
  root.addEventListener(
    "pointermove",
    (event) => {
      root.title = ruleTime(timeOf(event), 0.1);
    },
    on,
  );
  root.addEventListener(
    "keydown",
    (event) => {
      const line = layout?.length ?? 30;
      const to = {
        ArrowLeft: view.at - 1,
        ArrowRight: view.at + 1,
        ArrowUp: view.at - line,
        ArrowDown: view.at + line,
        Home: 0,
        End: view.total,
      }[event.key];
      if (to !== undefined && !isTaken(event)) goByKey(event, view, to);
    },
    on,
  );
  return drawnWith(root, view, draw, stop, drawView);
}
